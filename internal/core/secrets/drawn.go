package secrets

import (
	"bytes"
	"encoding/binary"
	"slices"
	"strings"

	"uncinate/internal/core/text"
)

// lone finds words that somebody drew by lot, on lines that speak of a secret and on which nothing else was found: in a program in quotes,
// else parted by blanks or signs. It needs no form in which the two stand. Those that begin before upTo are added to hits.
func (f *Finder) lone(data []byte, upTo int, form form, manual bool, hits []hit) []hit {
	told, asked := len(hits), 0
	for i := 0; i+8 <= len(data) && i < upTo && asked <= mostDear; i += 8 {
		// Eight bytes at a time: so long a word has eight in a place divisible by eight, and most such have a blank among them
		// (a byte less than 0x21 borrows, and its highest bit was not set).
		w := binary.LittleEndian.Uint64(data[i:])
		if (w-0x2121212121212121)&^w&0x8080808080808080 != 0 {
			continue
		}
		to, kinds := i, uint8(0)
		for to < len(data) && to-i < 4096 && drawnByte[data[to]] != 0 {
			kinds |= drawnByte[data[to]]
			to++
		}
		if to-i < 8 {
			continue
		}
		from := i
		for from > 0 && drawnByte[data[from-1]] != 0 && i-from <= longestDrawn {
			from--
			kinds |= drawnByte[data[from]]
		}
		i += (to - i) / 8 * 8
		v := bytes.TrimRight(data[from:to], "!?")
		if kinds != allDrawn || to-from < leastDrawn || !isDrawn(v) {
			continue
		}
		asked++
		if h := f.spokenOf(data, from, from+len(v), formAt(data, from, form, manual)); h.kind != "" && !slices.ContainsFunc(hits[:told], func(o hit) bool { return sameLine(data, h.at, o.at) }) {
			hits = append(hits, h)
		}
	}
	return hits
}

// spokenOf judges what was drawn by lot, from a place to another, by what is said on its line; without a kind if nothing is.
func (f *Finder) spokenOf(data []byte, from, to int, form form) (h hit) {
	begins, ends := max(0, from-longestLine), min(len(data), to+longestLine)
	if n := bytes.LastIndexByte(data[begins:from], '\n'); n >= 0 {
		begins += n + 1
	}
	if n := bytes.IndexByte(data[to:ends], '\n'); n >= 0 {
		ends = to + n
	}
	line := data[begins:ends]
	if len(line) > longestLine || !standsAlone(line, from-begins, to-begins, form) || tellsOther(line) {
		return h // of a line that is longer, a program was made small
	}
	f.find.scan(line, func(is what, at, end int) bool {
		if is != password && is != token && is != weak && is != spoken && is != signs || begins+at >= from && begins+at < to {
			return true
		}
		for at > 0 && nameByte[line[at-1]] { // the whole word
			at--
		}
		word := line[at : at+run(line, at, func(c byte) bool { return nameByte[c] })]
		h = hit{text.Either(is == token, Token, Password), describe(word, []byte(" … "), to-from), from, to}
		return false
	})
	return h
}

// standsAlone reports whether what is on a line from a place to another is in quotes or, but in programs, parted from the rest.
func standsAlone(line []byte, from, to int, form form) bool {
	open, closes := byte('\n'), byte('\n')
	if from > 0 {
		open = line[from-1]
	}
	if to < len(line) {
		closes = line[to]
	}
	return isQuote(open) && open == closes || form != code && strings.IndexByte(" \t\n=:'\"`>(", open) >= 0 && strings.IndexByte(" \t\n\r.,;:)'\"`<!?", closes) >= 0
}

// sameLine reports whether no line ends between two places.
func sameLine(data []byte, a, b int) bool {
	return max(a, b)-min(a, b) < 600 && bytes.IndexByte(data[min(a, b):max(a, b)], '\n') < 0
}

// longestLine is how long a line may be on which one is looked for, in bytes.
const longestLine = 500

// leastDrawn and longestDrawn are how many characters a word has that is taken for drawn by lot. One of 15 has eight in a place
// divisible by eight, wherever it begins.
const (
	leastDrawn   = 15
	longestDrawn = 64
)

// drawnByte are the characters of what is drawn by lot, by their kinds: 1, and 2 for a capital, 4 for a small letter, 8 for a digit.
var drawnByte = func() (b [256]uint8) {
	for c := range 256 {
		m := madeOf([]byte{byte(c)})
		if nameByte[c] || strings.IndexByte("!#%*+=@^~?$&", byte(c)) >= 0 {
			b[c] = uint8(1 | m.upper<<1 | m.lower<<2 | m.digit<<3)
		}
	}
	return b
}()

// allDrawn are the kinds of characters that a word drawn by lot has.
const allDrawn = 1 | 2 | 4 | 8

// isDrawn reports whether a word is of letters of both cases and digits, evenly spread, and not made of words.
func isDrawn(v []byte) bool {
	m := madeOf(v)
	if len(v) < leastDrawn || len(v) > longestDrawn || m.upper < 2 || m.lower < 3 || m.digit == 0 || m.sign*4 > len(v) || v[0] == '#' {
		return false
	}
	if i := bytes.IndexByte(v, '='); i >= 0 && i < len(v)-2 || bytes.Count(v, []byte("_")) > 2 || bytes.Count(v, []byte("-")) > 2 {
		return false // a name and its value, or a name of many words
	}
	words, run, vowel := 0, 0, false // letters in runs of four and more that one could speak
	for i := range len(v) + 1 {
		small := i < len(v) && 'a' <= v[i] && v[i] <= 'z'
		if small || run == 0 && i < len(v) && 'A' <= v[i] && v[i] <= 'Z' {
			run++
			vowel = vowel || strings.IndexByte("aeiouyAEIOUY", v[i]) >= 0
			continue
		}
		if run >= 4 && vowel {
			words += run
		}
		run, vowel = 0, false
		if i < len(v) && 'A' <= v[i] && v[i] <= 'Z' {
			run, vowel = 1, strings.IndexByte("AEIOUY", v[i]) >= 0
		}
	}
	return words*text.Either(len(v) < 20, 3, 2) <= len(v) && !wordy(v) && entropy(v) >= 3 && !placeholder(v)
}

// others are words that say of a line that what looks drawn on it is something else.
var others = []string{"sha1", "sha2", "sha3", "sha5", "sha-", "hash", "digest", "checksum", "crypt", "fingerprint", "etag", "nonce", "salt", "signature", "integrity", "public", "cert", "uuid", "md5", "hmac", "://", "h1:"}

func tellsOther(line []byte) bool {
	low := bytes.ToLower(line)
	for _, w := range others {
		if bytes.Contains(low, []byte(w)) {
			return true
		}
	}
	return false
}
