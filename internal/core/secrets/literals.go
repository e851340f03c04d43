package secrets

import (
	"encoding/binary"
	"math"
	"slices"
	"strings"
	"sync"
)

// literals finds many short literals in one pass, without regard to case. Of each it knows two windows of three bytes, one byte
// apart: of every two places one is even, so the pass looks at the window of every even place alone (Wu and Manber, "A fast
// algorithm for multi-pattern searching", 1994), without waiting for what the one before said. Most windows are of no literal; at
// the others those are compared that have such a window.
type literals struct {
	all   []literal
	known [slots]uint8  // by a window's slot: 1 if it is of a literal; apart from which, so that all of it stays at hand
	which [slots]uint16 // by a window's slot: its place in of
	of    [][]place     // the literals, and where the window is in them
}

type literal struct {
	text string // at least three bytes, ASCII letters in lower case
	is   what
}

// place is where a window is in a literal.
type place struct {
	literal          int
	back             int    // bytes from the literal's beginning to the window; -1 for a window that begins a byte before
	head, mask, fold uint64 // the literal's first eight bytes, which of them are its own, and what makes its letters small
}

// slots is how many windows are told apart.
const slots = 1 << 15

// fold makes letters of both cases the same, and some other bytes too.
const fold = 0x2020202020202020

// slot gives the slot of the window in a word's three lowest bytes, which are folded. Of three million drawn factors it
// is the one with which the fewest windows of programs and texts share a slot with one of what is announced: one of 380.
func slot(w uint32) uint32 { return w << 8 * 0x64c2ffb5 >> 17 }

// window gives the three bytes at a place of a text, folded.
func window[T string | []byte](text T, at int) uint32 {
	return (uint32(text[at]) | uint32(text[at+1])<<8 | uint32(text[at+2])<<16) | fold&0xffffff
}

func lower(c byte) byte {
	if 'A' <= c && c <= 'Z' {
		return c + 'a' - 'A'
	}
	return c
}

// small makes the letters of ASCII small, and leaves all else.
func small(text string) string {
	out := []byte(text)
	for i, c := range out {
		out[i] = lower(c)
	}
	return string(out)
}

func newLiterals(all []literal) *literals {
	l := &literals{all: all, of: [][]place{nil}}
	often := map[uint32]int{}
	for at := range len(ordinary) - 2 {
		often[window(ordinary, at)]++
	}
	for n, x := range all {
		if len(x.text) == 3 { // whatever is before it
			for c := range uint32(256) {
				l.know(c|fold&0xff|window(x.text, 0)<<8&0xffffff, n, -1)
			}
			l.know(window(x.text, 0), n, 0)
			continue
		}
		at := rarest(x.text, often)
		l.know(window(x.text, at), n, at)
		l.know(window(x.text, at+1), n, at+1)
	}
	return l
}

// know notes a window of a literal.
func (l *literals) know(w uint32, n, back int) {
	s := slot(w)
	if l.known[s] == 0 {
		l.known[s], l.which[s] = 1, uint16(len(l.of))
		l.of = append(l.of, nil)
	}
	list := &l.of[l.which[s]]
	if slices.ContainsFunc(*list, func(p place) bool { return p.literal == n && p.back == back }) {
		return
	}
	p := place{literal: n, back: back}
	for i, c := range []byte(l.all[n].text[:min(8, len(l.all[n].text))]) {
		p.head |= uint64(c) << (8 * i)
		p.mask |= 0xff << (8 * i)
		if 'a' <= c && c <= 'z' {
			p.fold |= 0x20 << (8 * i)
		}
	}
	*list = append(*list, p)
}

// ordinary is of what texts and programs are full.
const ordinary = ` the and for that with this from are not have has was were which will would can when where then than there their these
 those other more some what into only over also such each most make made may must should could been being before after about all any
 both but by does done down during first found given here high how into is it its just last like little long low many much name new
 next no now of off on once one or our out own part people place right same set side small so take tell text thing time to too turn
 two under until up use used very want way well while who why word work write year you your on in at as an be do if or we he
 return if else while for int char string float void static const struct class public private function import include define true
 false null none nil self value values name names type types file files path data list item index length size count number date
 error errors err message test tests testing case default set get new add use used user users code example version license
 copyright key keys secret secrets token tokens password passwords option options option param parameter parameters argument
 arguments result results method methods object objects array buffer char byte bytes read write open close start end begin stop
 init config configuration settings server client request response http https www com org html header body content node element
 event state update create delete insert remove find search order process thread lock system support package module interface
 implementation information document description generated format local global table column row field line lines print output
 input const let var func def end then throw catch try exception assert expect equal should describe doc docs see also note
 = == := => -> () (); {} [] {} != <= >= && || ++ -- += : ; , . ", " ', ' (" ") (' ') = " = ' ="" =' : " : ' "," ':' == " == '
 -- --- // /// /* */ # ## * ** </ <a <p <li> </li> <div> </div> class=" id=" href="http:// href="https:// type=" name="
 int( str( the( self. this. err) err: if ( for ( while ( e.g. i.e. ... sign assign design area share
 command common change range lines: logo basic
ing
ed
er
ly
tion
es
s
`

// rarest gives the place in a literal of two windows that are seldom in what is ordinary, and of bytes that are.
func rarest(text string, often map[uint32]int) int {
	best, least := 0, math.MaxInt
	for at := range len(text) - 3 {
		sum := 1000 * (often[window(text, at)] + often[window(text, at+1)])
		for _, c := range []byte(text[at : at+4]) {
			sum += strings.Count(ordinary, string([]byte{c}))
		}
		if sum < least {
			best, least = at, sum
		}
	}
	return best
}

// match is a literal at a place.
type match struct{ from, end, literal int }

// before reports whether one comes before another: the one that ends first, or of those with one end the longest.
func (m match) before(o match) bool {
	if m.end != o.end {
		return m.end < o.end
	}
	return m.from < o.from || m.from == o.from && m.literal < o.literal
}

// room is for matches, used again: of very many files the room for each would have to be made and cleared.
var room = sync.Pool{New: func() any { return new([]match) }}

// scan calls hit with each place where a literal stands, in the order of their ends, until hit says that it has
// enough.
func (l *literals) scan(data []byte, hit func(is what, from, to int) bool) {
	space := room.Get().(*[]match)
	defer room.Put(space)
	found := l.windows(data, (*space)[:0])
	*space = found
	for _, m := range found {
		if !hit(l.all[m.literal].is, m.from, m.end) {
			return
		}
	}
}

// seen is a place of which the window has a slot that is known.
type seen struct {
	at   int32
	slot uint32
}

// windows adds the matches in data to found.
func (l *literals) windows(data []byte, found []match) []match {
	var some [64]seen
	n, rest := 0, data
	for len(rest) >= 8 {
		w := binary.LittleEndian.Uint64(rest) | fold
		a, b, c := slot(uint32(w)), slot(uint32(w>>16)), slot(uint32(w>>32))
		ka, kb, kc := l.known[a], l.known[b], l.known[c]
		if ka|kb|kc != 0 {
			at := int32(len(data) - len(rest))
			some[n&63] = seen{at, a} // each is kept only if it is known, and what would decide it is not to be foreseen
			n += int(ka)
			some[n&63] = seen{at + 2, b}
			n += int(kb)
			some[n&63] = seen{at + 4, c}
			n += int(kc)
			if n > 60 {
				found, n = l.compare(data, some[:n&63], found), 0
			}
		}
		rest = rest[6:]
	}
	found = l.compare(data, some[:n&63], found)
	for at := len(data) - len(rest); len(rest) > 2; at, rest = at+2, rest[2:] {
		found = l.compare(data, []seen{{int32(at), slot(window(rest, 0))}}, found)
	}
	return found
}

// compare adds the literals to found that stand about some places.
func (l *literals) compare(data []byte, some []seen, found []match) []match {
	for _, s := range some {
		list := l.of[l.which[s.slot]]
		for i := range list {
			p := &list[i]
			from := int(s.at) - p.back
			if from < 0 {
				continue
			}
			var w uint64
			if from+8 <= len(data) {
				w = binary.LittleEndian.Uint64(data[from:])
			} else {
				var last [8]byte
				copy(last[:], data[from:])
				w = binary.LittleEndian.Uint64(last[:])
			}
			if (w|p.fold)&p.mask != p.head {
				continue
			}
			text := l.all[p.literal].text
			if end := from + len(text); end <= len(data) && (len(text) <= 8 || equalFold(data[from+8:end], text[8:])) {
				found = put(found, match{from, end, p.literal})
			}
		}
	}
	return found
}

// put adds a match where it belongs, which is most often behind the last.
func put(found []match, m match) []match {
	found = append(found, m)
	for i := len(found) - 1; i > 0 && m.before(found[i-1]); i-- {
		found[i], found[i-1] = found[i-1], found[i]
	}
	return found
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
