package secrets

// literals finds many short literals in one pass, without regard to case: an automaton (Aho and Corasick,
// "Efficient string matching: an aid to bibliographic search", 1975) with every step in a table, for every
// byte. Four parts of the data are passed over side by side, since each step waits for the one before.
type literals struct {
	all     []literal
	next    *[mostStates << 8]uint16 // by state, times 256, and byte: the next state, with ending set where a literal ends
	ends    [][]int                  // by state: the literals that end there, the longest first
	known   int                      // how many bytes of a literal the automaton knows
	longest int                      // the longest that it knows
}

type literal struct {
	text string // in lower case
	is   what
}

// ending marks a step after which a literal has ended.
const ending = 1 << 15

// mostKnown is how many bytes of a literal the automaton knows; the rest is compared.
const mostKnown = 24

// mostStates is how many states the automaton has at most: a power of two. Of very many literals it knows fewer
// bytes each.
const mostStates = 1 << 11

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

func newLiterals(all []literal) *literals {
	for known := mostKnown; ; known-- {
		if l := makeLiterals(all, known); l != nil {
			return l
		}
	}
}

// makeLiterals makes the automaton for so many bytes of each literal; nil if it would have too many states.
func makeLiterals(all []literal, known int) *literals {
	l := &literals{all: all, ends: [][]int{nil}, known: known}
	tree := [][256]uint16{{}} // of all heads
	for n, x := range all {
		head := x.text[:min(len(x.text), known)]
		l.longest = max(l.longest, len(head))
		at := uint16(0)
		for _, c := range []byte(head) {
			if tree[at][c] == 0 {
				if len(tree) == mostStates {
					return nil
				}
				tree[at][c] = uint16(len(tree))
				tree = append(tree, [256]uint16{})
				l.ends = append(l.ends, nil)
			}
			at = tree[at][c]
		}
		l.ends[at] = append(l.ends[at], n)
	}
	l.link(tree)
	return l
}

// link makes of a tree the table of an automaton: each state's missing steps are those of the state that stands
// for its longest end which is a beginning too.
func (l *literals) link(tree [][256]uint16) {
	back := make([]uint16, len(tree))
	queue := []uint16{0}
	for i := 0; i < len(queue); i++ {
		at := queue[i]
		if at != 0 {
			l.ends[at] = append(l.ends[at], l.ends[back[at]]...)
		}
		for c, to := range tree[at] {
			switch {
			case to != 0:
				if at != 0 {
					back[to] = tree[back[at]][c]
				}
				queue = append(queue, to)
			case at != 0:
				tree[at][c] = tree[back[at]][c]
			}
		}
	}
	l.next = new([mostStates << 8]uint16)
	for at := range tree {
		for c := range 256 {
			to := tree[at][lower(byte(c))]
			if len(l.ends[to]) > 0 {
				to |= ending
			}
			l.next[at<<8|c] = to
		}
	}
}

// match is a place at which a state is reached that ends literals.
type match struct {
	state uint16
	end   int
}

// scan calls hit with each place where a literal stands, in the order of their ends, until hit says that it has
// enough.
func (l *literals) scan(data []byte, hit func(is what, from, to int) bool) {
	const least = 512 // bytes that are worth being parted
	quarter := len(data) / 4
	if quarter < least {
		state := uint16(0)
		for i, c := range data {
			state = l.next[uint32(state)%mostStates<<8|uint32(c)]
			if state&ending != 0 && !l.tell(data, match{state &^ ending, i + 1}, hit) {
				return
			}
		}
		return
	}
	var space [4][64]match
	found := [4][]match{space[0][:0], space[1][:0], space[2][:0], space[3][:0]}
	l.quarters(data, quarter, &found)
	for q := range found {
		for _, m := range found[q] {
			if !l.tell(data, m, hit) {
				return
			}
		}
	}
}

// quarters passes over four parts of the data, and the few bytes behind them.
func (l *literals) quarters(data []byte, quarter int, found *[4][]match) {
	var at [4]uint16
	for q := 1; q < 4; q++ {
		for _, c := range data[max(0, q*quarter-l.longest):][:min(l.longest, q*quarter)] {
			at[q] = l.next[uint32(at[q])%mostStates<<8|uint32(c)]
		}
	}
	next := l.next
	s0, s1, s2, s3 := at[0], at[1], at[2], at[3]
	d0 := data[:quarter]
	d1, d2, d3 := data[quarter:][:len(d0)], data[2*quarter:][:len(d0)], data[3*quarter:][:len(d0)]
	for i := range d0 {
		s0 = next[uint32(s0)%mostStates<<8|uint32(d0[i])]
		s1 = next[uint32(s1)%mostStates<<8|uint32(d1[i])]
		s2 = next[uint32(s2)%mostStates<<8|uint32(d2[i])]
		s3 = next[uint32(s3)%mostStates<<8|uint32(d3[i])]
		if (s0|s1|s2|s3)&ending == 0 {
			continue
		}
		if s0&ending != 0 {
			found[0] = append(found[0], match{s0 &^ ending, i + 1})
		}
		if s1&ending != 0 {
			found[1] = append(found[1], match{s1 &^ ending, quarter + i + 1})
		}
		if s2&ending != 0 {
			found[2] = append(found[2], match{s2 &^ ending, 2*quarter + i + 1})
		}
		if s3&ending != 0 {
			found[3] = append(found[3], match{s3 &^ ending, 3*quarter + i + 1})
		}
	}
	for i := 4 * quarter; i < len(data); i++ {
		s3 = next[uint32(s3)%mostStates<<8|uint32(data[i])]
		if s3&ending != 0 {
			found[3] = append(found[3], match{s3 &^ ending, i + 1})
		}
	}
}

// tell calls hit with the literals that end at a match.
func (l *literals) tell(data []byte, m match, hit func(is what, from, to int) bool) bool {
	for _, n := range l.ends[m.state] {
		x := &l.all[n]
		from := m.end - min(len(x.text), l.known)
		if from+len(x.text) > len(data) || len(x.text) > l.known && !equalFold(data[m.end:from+len(x.text)], x.text[l.known:]) {
			continue
		}
		if !hit(x.is, from, from+len(x.text)) {
			return false
		}
	}
	return true
}

func equalFold(b []byte, s string) bool {
	if len(b) != len(s) {
		return false
	}
	for i := range len(s) {
		if lower(b[i]) != s[i] {
			return false
		}
	}
	return true
}
