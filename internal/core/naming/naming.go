// Package naming turns a folder's name into a repository's, and checks names.
package naming

import (
	"strings"
	"unicode"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Longest is the longest name, in bytes, that is proposed or accepted.
const Longest = 100

// Propose makes a repository name from a folder's: letters, digits, '.', '_' and
// '-' stay, blanks become '-', the rest is left out. Empty when nothing is left.
func Propose(folder string) string {
	var b strings.Builder
	for _, r := range folder {
		switch {
		case r < 128 && (unicode.IsLetter(r) || unicode.IsDigit(r)) || r == '.' || r == '_' || r == '-':
			b.WriteRune(r)
		case unicode.IsSpace(r) || r == '+' || r == '@':
			b.WriteByte('-')
		}
	}
	name := strings.Trim(b.String(), "-.")
	name = strings.TrimSuffix(name, ".git")
	if len(name) > Longest {
		name = strings.TrimRight(name[:Longest], "-.")
	}
	return name
}

// Check refuses names that hosts, shells or file systems stumble over.
func Check(name string) error {
	if name == "" {
		return fault.New(fault.Usage, "the name is empty")
	}
	if p := Propose(name); p != name {
		f := fault.New(fault.Usage, "%q cannot be a repository's name: letters, digits, '.', '_' and '-' may be in it, and it begins and ends with neither '-' nor '.'", text.Excerpt(name, 60))
		if p != "" {
			f.Detail("A name near to it: %s", p)
		}
		return f
	}
	return nil
}

// Split takes "owner/name" or "group/sub/name" apart; owner is empty for a plain name.
func Split(path string) (owner, name string) {
	i := strings.LastIndexByte(path, '/')
	if i < 0 {
		return "", path
	}
	return path[:i], path[i+1:]
}
