// Package text holds the small rules by which strings become fit to be shown:
// control characters made visible, shell quoting for commands that are to be
// pasted, sizes, counts and nearest words.
package text

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Visible makes s safe to print on one line of a terminal: control characters,
// bytes that are not UTF-8, and the characters that turn the writing direction, are private or
// not assigned are shown as escapes, never obeyed.
func Visible(s string) string {
	plain := true
	for i := 0; i < len(s) && plain; i++ {
		plain = s[i] >= 0x20 && s[i] < 0x7f
	}
	if plain {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case r == '\n':
			b.WriteString(`\n`)
		case r == '\t':
			b.WriteString(`\t`)
		case r < 0x20 || r == 0x7f:
			fmt.Fprintf(&b, `\x%02x`, r)
		case !unicode.IsGraphic(r):
			fmt.Fprintf(&b, `\u%04x`, r)
		default:
			b.WriteRune(r)
		}
		i += n
	}
	return b.String()
}

// Excerpt is Visible, cut to at most most runes with a mark where it was cut.
func Excerpt(s string, most int) string {
	if len(s) > 4*most {
		s = s[:4*most]
	}
	v := []rune(Visible(s))
	if len(v) <= most {
		return string(v)
	}
	return string(v[:most-3]) + "..."
}

// Quote gives word as one word of a POSIX shell, quoted only where it must be.
func Quote(word string) string {
	if word == "" {
		return "''"
	}
	safe := true
	for _, r := range word {
		if !strings.ContainsRune("@%+=:,./-_~", r) && !(r < utf8.RuneSelf && (unicode.IsLetter(r) || unicode.IsDigit(r))) {
			safe = false
			break
		}
	}
	if safe && word[0] != '~' {
		return word
	}
	if Visible(word) != word {
		// A word with a newline or another character that is not shown must survive being pasted:
		// each of its bytes is written out.
		var b strings.Builder
		b.WriteString("$'")
		for i := 0; i < len(word); {
			r, n := utf8.DecodeRuneInString(word[i:])
			switch {
			case r == '\'' || r == '\\':
				b.WriteByte('\\')
				b.WriteByte(word[i])
			case Visible(word[i:i+n]) != word[i:i+n]:
				for _, c := range []byte(word[i : i+n]) {
					fmt.Fprintf(&b, `\%03o`, c)
				}
			default:
				b.WriteString(word[i : i+n])
			}
			i += n
		}
		return b.String() + "'"
	}
	return "'" + strings.ReplaceAll(word, "'", `'\''`) + "'"
}

// Command joins words into a command line that can be pasted.
func Command(words ...string) string {
	quoted := make([]string, len(words))
	for i, w := range words {
		quoted[i] = Quote(w)
	}
	return strings.Join(quoted, " ")
}

// WithOperand adds an argument and options to the words of a command; one that looks like an option
// comes last, behind "--" (POSIX, Utility Syntax Guidelines, 10).
func WithOperand(words []string, operand string, options ...string) []string {
	if strings.HasPrefix(operand, "-") {
		return append(append(words, options...), "--", operand)
	}
	return append(append(words, operand), options...)
}

// Size gives a number of bytes in decimal units: "812 B", "1.4 MB".
func Size(bytes int64) string {
	if bytes < 1000 {
		return fmt.Sprintf("%d B", bytes)
	}
	value := float64(bytes)
	for _, unit := range []string{"kB", "MB", "GB", "TB", "PB"} {
		value /= 1000
		if value < 9.95 {
			return fmt.Sprintf("%.1f %s", value, unit)
		}
		if value < 999.5 {
			return fmt.Sprintf("%.0f %s", value, unit)
		}
	}
	return fmt.Sprintf("%d B", bytes)
}

// Number writes n with a comma between thousands.
func Number(n int) string {
	s := fmt.Sprint(n)
	start := 0
	if n < 0 {
		start = 1
	}
	for i := len(s) - 3; i > start; i -= 3 {
		s = s[:i] + "," + s[i:]
	}
	return s
}

// Count gives "1 file" or "2,038 files".
func Count(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if strings.HasSuffix(one, "y") && !strings.HasSuffix(one, "ay") {
		return Number(n) + " " + strings.TrimSuffix(one, "y") + "ies"
	}
	if strings.HasSuffix(one, "ch") {
		return Number(n) + " " + one + "es"
	}
	return Number(n) + " " + one + "s"
}

// Nearest finds the word of words that word was probably meant to be: at most a
// third of its letters differ (Levenshtein distance). Empty when none is near.
func Nearest(word string, words []string) string {
	best, least := "", len([]rune(word))/3+1
	for _, w := range words {
		if d := distance(strings.ToLower(word), strings.ToLower(w), least); d < least || (d == least && best == "") {
			best, least = w, d
		}
	}
	if best == "" && len(word) >= 3 {
		for _, w := range words {
			if strings.HasPrefix(w, word) {
				return w
			}
		}
	}
	return best
}

func distance(a, b string, most int) int {
	x, y := []rune(a), []rune(b)
	if len(x) > 64 || len(y) > 64 || len(x)-len(y) > most || len(y)-len(x) > most {
		return most + 1
	}
	row := make([]int, len(y)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(x); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(y); j++ {
			cost := 1
			if x[i-1] == y[j-1] {
				cost = 0
			}
			diagonal, row[j] = row[j], min(row[j]+1, row[j-1]+1, diagonal+cost)
		}
	}
	return row[len(y)]
}

// ParseSize reads a number of bytes with its unit, such as "100 MiB" or "5 GB"; false
// where it is none.
func ParseSize(s string) (int64, bool) {
	number, unit, ok := strings.Cut(s, " ")
	n, err := strconv.ParseFloat(number, 64)
	if !ok || err != nil || n < 0 {
		return 0, false
	}
	if unit == "B" {
		return int64(n), true
	}
	power := strings.IndexByte("kMGT", unit[0]) + 1
	if power == 0 {
		power = strings.IndexByte("KMGT", unit[0]) + 1
	}
	step := 1000.0
	switch {
	case power == 0:
		return 0, false
	case len(unit) == 3 && unit[1:] == "iB":
		step = 1024
	case len(unit) != 2 || unit[1] != 'B':
		return 0, false
	}
	for range power {
		n *= step
	}
	if n > 1<<62 {
		return 0, false
	}
	return int64(n), true
}
