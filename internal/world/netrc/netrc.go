// Package netrc finds sign-ins that curl, and so git, takes from a netrc file
// before any credential helper is asked. Secrets are passed over, never kept.
package netrc

import (
	"bufio"
	"io"
	"os"
	"path/filepath"
	"strings"
)

// Entry is one sign-in that is in the file.
type Entry struct {
	File  string
	Line  int // from 1
	Login string
	Any   bool // the "default" entry, for every host
}

// Find looks for the entry that would be used for a host name (without port), in
// ~/.netrc and, on Windows' kind of systems, ~/_netrc. Nil when there is none.
func Find(home, host string) *Entry {
	for _, name := range []string{".netrc", "_netrc"} {
		path := filepath.Join(home, name)
		f, err := os.Open(path)
		if err != nil {
			continue
		}
		e := scan(io.LimitReader(f, 1<<20), host)
		f.Close()
		if e != nil {
			e.File = path
			return e
		}
	}
	return nil
}

func scan(r io.Reader, host string) *Entry {
	var found *Entry
	key, inMacro := "", false
	lines := bufio.NewScanner(r)
	for n := 1; lines.Scan(); n++ {
		line := lines.Text()
		if inMacro {
			inMacro = strings.TrimSpace(line) != ""
			continue
		}
		for word := range strings.FieldsSeq(line) {
			switch {
			case key == "machine":
				if found != nil {
					return found
				}
				if strings.EqualFold(word, host) {
					found = &Entry{Line: n}
				}
				key = ""
			case key == "login":
				if found != nil && found.Login == "" {
					found.Login = word
				}
				key = ""
			case key == "macdef":
				key, inMacro = "", true
			case key != "":
				key = "" // a password or an account: passed over
			case word == "default":
				if found != nil {
					return found
				}
				found = &Entry{Line: n, Any: true}
			case strings.HasPrefix(word, "#"):
			default:
				key = word
			}
			if inMacro || strings.HasPrefix(word, "#") {
				break
			}
		}
	}
	return found
}
