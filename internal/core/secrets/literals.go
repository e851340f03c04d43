package secrets

// literals finds many short literals in one pass, without regard to case, by the
// method of Wu and Manber ("A fast algorithm for multi-pattern searching", 1994): the
// last two characters of a window tell how far the window may move on.
type literals struct {
	all    []literal
	least  int             // length of the shortest, the window's length
	shift  [64 * 64]uint8  // by the classes of the window's last two characters
	bucket map[int][]int32 // the literals whose window ends so, by the same
}

type literal struct {
	text string // in lower case
	is   what
}

// classOf puts characters into 64 classes: each letter in one, whatever its case, all
// digits in one, each sign that literals hold in one of its own, and the rest in one.
var classOf = func() (c [256]uint8) {
	for i := range 26 {
		c['a'+i], c['A'+i] = uint8(1+i), uint8(1+i)
	}
	for i := range 10 {
		c['0'+i] = 27
	}
	for i, s := range []byte(`_-./:$="' \@,`) {
		c[s] = uint8(28 + i)
	}
	for i := 0x80; i < 0x100; i++ {
		c[i] = 50
	}
	return c
}()

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

func newLiterals(all []literal) *literals {
	l := &literals{all: all, least: len(all[0].text), bucket: map[int][]int32{}}
	for _, x := range all {
		l.least = min(l.least, len(x.text))
	}
	for i := range l.shift {
		l.shift[i] = uint8(l.least - 1)
	}
	for n, x := range all {
		for i := 1; i < l.least; i++ {
			block := int(classOf[x.text[i-1]])<<6 | int(classOf[x.text[i]])
			l.shift[block] = min(l.shift[block], uint8(l.least-1-i))
			if i == l.least-1 {
				l.bucket[block] = append(l.bucket[block], int32(n))
			}
		}
	}
	return l
}

// scan calls hit with each place where a literal stands, until hit says that it has
// enough.
func (l *literals) scan(data []byte, hit func(is what, from, to int) bool) {
	last := l.least - 1
	for i := last; i < len(data); {
		block := int(classOf[data[i-1]])<<6 | int(classOf[data[i]])
		if s := l.shift[block]; s > 0 {
			i += int(s)
			continue
		}
		for _, n := range l.bucket[block] {
			x := &l.all[n]
			from := i - last
			if from+len(x.text) > len(data) || !equalFold(data[from:from+len(x.text)], x.text) {
				continue
			}
			if !hit(x.is, from, from+len(x.text)) {
				return
			}
		}
		i++
	}
}

func equalFold(b []byte, s string) bool {
	for i := range len(s) {
		if lower(b[i]) != s[i] {
			return false
		}
	}
	return true
}
