package screen

import (
	"fmt"
	"io"
	"net/url"
	"os"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/term"
)

// stream is standard output or standard error: what is written to it is blanked of
// secrets and, where the locale is not UTF-8, put into ASCII.
type stream struct {
	to       io.Writer
	veil     *veil
	ascii    bool
	terminal bool // it is one, so lines may be drawn over and bold is of use
	bold     bool
	width    int // columns to break lines at; 0 for none
}

// newStream looks at one of the process's streams. Bold only underlines, on a terminal, or where
// CLICOLOR_FORCE says that what reads the output is one, and never with NO_COLOR set.
func newStream(f *os.File, v *veil) *stream {
	s := &stream{to: f, veil: v, terminal: term.IsTerminal(int(f.Fd())), ascii: !speaksUTF8()}
	force := os.Getenv("CLICOLOR_FORCE")
	s.bold = (s.terminal || force != "" && force != "0") && os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb"
	if w, _, err := term.GetSize(int(f.Fd())); err == nil && w > 0 {
		s.width = max(w, 40)
	} else if w, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && w > 0 {
		s.width = max(w, 40)
	}
	return s
}

// Terminal tells whether results are shown with bold words, and at which width; 0 for any.
func (e *Env) Terminal() (bold bool, width int) { return e.Out.bold, e.Out.width }

// speaksUTF8 looks at the locale (POSIX, "Environment Variables": LC_ALL, LC_CTYPE,
// LANG, the first that is set). Windows and macOS speak it without any.
func speaksUTF8() bool {
	for _, name := range []string{"LC_ALL", "LC_CTYPE", "LANG"} {
		if v := os.Getenv(name); v != "" {
			v = strings.ToLower(v)
			return strings.Contains(v, "utf-8") || strings.Contains(v, "utf8")
		}
	}
	return runtime.GOOS == "windows" || runtime.GOOS == "darwin"
}

// Write implements io.Writer. Callers write whole lines, so no secret is cut apart.
func (s *stream) Write(p []byte) (int, error) {
	text := drawn(s.veil.over(string(p)))
	if s.ascii {
		text = ascii(text)
	}
	if _, err := io.WriteString(s.to, text); err != nil {
		return 0, err
	}
	return len(p), nil
}

// look opens what only this program puts into its output: bold, faint, and the end of a line that
// is drawn over. Where it goes out it becomes ECMA-48's CSI; an ESC that is in a text is shown.
const look = "\x00["

// Again puts what a run of this very program has shown into the form in which it can be shown again:
// whatever of its look is there, that run has put there itself.
func Again(shown string) string { return strings.ReplaceAll(shown, "\x1b[", look) }

// drawn shows every control, turning, private or unassigned character that is in a text, and
// puts our own marks in. It is the last that all output passes, whoever made it fit before;
// what it writes of a character is what JSON reads, too (RFC 8259, section 7).
func drawn(s string) string {
	plain := func(r rune) bool {
		return r == '\n' || r == '\r' || r == '\t' || r >= 0x20 && r < 0x7f || r > 0x7f && r != utf8.RuneError && unicode.IsGraphic(r)
	}
	if !strings.ContainsFunc(s, func(r rune) bool { return !plain(r) }) {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case strings.HasPrefix(s[i:], look):
			b.WriteString("\x1b[")
			n = len(look)
		case r == utf8.RuneError && n == 1 || r < 0x20 && !plain(r):
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case plain(r) || r == utf8.RuneError:
			b.WriteString(s[i : i+n])
		default:
			b.WriteString(escaped(r))
		}
		i += n
	}
	return b.String()
}

// escaped is a character as JSON writes it where it is not to stand for itself.
func escaped(r rune) string {
	if r > 0xffff {
		high, low := utf16.EncodeRune(r)
		return fmt.Sprintf(`\u%04x\u%04x`, high, low)
	}
	return fmt.Sprintf(`\u%04x`, r)
}

// ascii writes what is not ASCII as \uXXXX, which is also what JSON reads
// (RFC 8259, section 7).
func ascii(s string) string {
	plain := func(r rune) bool { return r < utf8.RuneSelf }
	if !strings.ContainsFunc(s, func(r rune) bool { return !plain(r) }) {
		return s
	}
	var b strings.Builder
	for _, r := range s {
		if plain(r) {
			b.WriteRune(r)
		} else {
			b.WriteString(escaped(r))
		}
	}
	return b.String()
}

// blanked is where a secret would have stood.
const blanked = "[secret]"

// veil blanks the secrets that it was told of, wherever they would be shown: also
// where a host repeats one in its answer.
type veil struct {
	mu      sync.Mutex
	secrets []string
}

// add makes a secret known. Very short ones are not secrets, and would blank words.
func (v *veil) add(secret string) {
	if len(secret) < 8 {
		return
	}
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, s := range []string{secret, url.QueryEscape(secret), url.PathEscape(secret)} {
		if !slices.Contains(v.secrets, s) {
			v.secrets = append(v.secrets, s)
		}
	}
	slices.SortFunc(v.secrets, func(a, b string) int { return len(b) - len(a) }) // the longest first
}

func (v *veil) over(text string) string {
	v.mu.Lock()
	defer v.mu.Unlock()
	for _, s := range v.secrets {
		text = strings.ReplaceAll(text, s, blanked)
	}
	return text
}
