package secrets

import "slices"

// literals finds many short literals in one pass, without regard to case. It is the
// shift-or method (Baeza-Yates and Gonnet, "A new approach to text searching", 1992)
// on eight buckets of literals at a time: byte k of the state is about the k-th of
// eight characters, and a bit of it is 0 while some literal of that bucket fits until now.
type literals struct {
	all    []literal
	masks  [256]uint64
	bucket [8][]int
}

type literal struct {
	text string // in lower case
	is   what
}

// window is how many characters of a literal the state holds; a shorter one is
// preceded by anything.
const window = 8

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

func newLiterals(all []literal) *literals {
	l := &literals{all: all}
	for c := range l.masks {
		l.masks[c] = ^uint64(0)
	}
	// Literals of like length and beginning share a bucket, which lets through less.
	order := make([]int, len(all))
	for i := range order {
		order[i] = i
	}
	slices.SortFunc(order, func(a, b int) int {
		if d := min(len(all[a].text), window) - min(len(all[b].text), window); d != 0 {
			return d
		}
		if all[a].text < all[b].text {
			return -1
		}
		return 1
	})
	for n, i := range order {
		b := n * len(l.bucket) / len(order)
		l.bucket[b] = append(l.bucket[b], i)
		head := all[i].text[:min(len(all[i].text), window)]
		for k := range window {
			bit := uint64(1) << (8*k + b)
			if k < window-len(head) {
				for c := range l.masks {
					l.masks[c] &^= bit
				}
				continue
			}
			c := head[k-(window-len(head))]
			l.masks[c] &^= bit
			if 'a' <= c && c <= 'z' {
				l.masks[c-'a'+'A'] &^= bit
			}
		}
	}
	return l
}

// scan calls hit with each place where a literal stands, until hit says that it has
// enough.
func (l *literals) scan(data []byte, hit func(is what, from, to int) bool) {
	const none = uint64(0xff) << 56
	// Before the first character anything may have stood.
	state := uint64(0)
	m := &l.masks
	i := 0
	for ; i+8 <= len(data); i += 8 {
		p := data[i : i+8 : i+8]
		s0 := state<<8 | m[p[0]]
		s1 := s0<<8 | m[p[1]]
		s2 := s1<<8 | m[p[2]]
		s3 := s2<<8 | m[p[3]]
		s4 := s3<<8 | m[p[4]]
		s5 := s4<<8 | m[p[5]]
		s6 := s5<<8 | m[p[6]]
		s7 := s6<<8 | m[p[7]]
		if (s0&s1&s2&s3&s4&s5&s6&s7)&none != none {
			for k, s := range [8]uint64{s0, s1, s2, s3, s4, s5, s6, s7} {
				if s&none != none && !l.check(data, i+k, uint8(s>>56), hit) {
					return
				}
			}
		}
		state = s7
	}
	for ; i < len(data); i++ {
		state = state<<8 | m[data[i]]
		if state&none != none && !l.check(data, i, uint8(state>>56), hit) {
			return
		}
	}
}

// check compares the literals of the buckets that fit until now, whose window ends at i.
func (l *literals) check(data []byte, i int, buckets uint8, hit func(is what, from, to int) bool) bool {
	for b := range l.bucket {
		if buckets>>b&1 != 0 {
			continue
		}
		for _, n := range l.bucket[b] {
			x := &l.all[n]
			from := i + 1 - min(len(x.text), window)
			if from < 0 || from+len(x.text) > len(data) || !equalFold(data[from:from+len(x.text)], x.text) {
				continue
			}
			if !hit(x.is, from, from+len(x.text)) {
				return false
			}
		}
	}
	return true
}

func equalFold(b []byte, s string) bool {
	for i := range len(s) {
		if lower(b[i]) != s[i] {
			return false
		}
	}
	return true
}
