// Package authkeys computes changes of an authorized_keys file (sshd(8), AUTHORIZED_KEYS
// FILE FORMAT): keys of ours are between two marked lines, every other line stays as
// it is.
package authkeys

import (
	"regexp"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/sshkey"
)

// Entry is one key that may sign in.
type Entry struct {
	Half   sshkey.Public
	Ours   bool   // it is between our marks
	Only   string // of a deploy key: the path of the one repository that it opens
	Writes bool   // of a deploy key
}

// Title is the key's comment.
func (e Entry) Title() string { return e.Half.Comment }

// plainPath are the paths that may be in a forced command: what a shell would read as
// anything but itself may not.
var plainPath = regexp.MustCompile(`^/[A-Za-z0-9._/+-]+$`)

// line writes the entry: nothing but running git, or our own commands, is allowed
// ("restrict"), and a deploy key runs one of git's programs on one repository.
func (e Entry) line() (string, error) {
	options := "restrict"
	if e.Only != "" {
		if !plainPath.MatchString(e.Only) || strings.Contains(e.Only, "..") {
			return "", fault.New(fault.Refused, "a deploy key cannot be limited to a path with such characters: %s", e.Only)
		}
		bare := strings.TrimSuffix(e.Only, ".git")
		branch := func(program string) string {
			return `"` + program + ` '` + e.Only + `'"|"` + program + ` '` + bare + `'") exec ` + program + ` '` + e.Only + `';; `
		}
		run := `case "$SSH_ORIGINAL_COMMAND" in ` + branch("git-upload-pack")
		if e.Writes {
			run += branch("git-receive-pack")
		}
		run += `*) echo 'this key opens one repository only' >&2; exit 1;; esac`
		options += `,command="` + strings.ReplaceAll(run, `"`, `\"`) + `"`
	}
	return options + " " + e.Half.Line(), nil
}

var onlyIn = regexp.MustCompile(`exec git-(upload|receive)-pack '([^']*)'`)

// Read reads the keys of a file, in their order. Lines that hold none are passed over.
func Read(text string) []Entry {
	var out []Entry
	ours := false
	for line := range strings.SplitSeq(text, "\n") {
		line = strings.TrimSpace(line)
		switch {
		case line == kinds.Opening:
			ours = true
		case line == kinds.Closing:
			ours = false
		case line == "" || line[0] == '#':
		default:
			options, key := split(line)
			half, err := sshkey.Read(key)
			if err != nil {
				continue
			}
			e := Entry{Half: half, Ours: ours}
			for _, m := range onlyIn.FindAllStringSubmatch(options, -1) {
				e.Only, e.Writes = m[2], e.Writes || m[1] == "receive"
			}
			out = append(out, e)
		}
	}
	return out
}

// split parts a line's options from its key: they end at the first blank outside quotes.
func split(line string) (options, key string) {
	for _, kind := range []string{"ssh-", "ecdsa-", "sk-"} {
		if strings.HasPrefix(line, kind) {
			return "", line
		}
	}
	quoted := false
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '\\' && i+1 < len(line):
			i++
		case line[i] == '"':
			quoted = !quoted
		case (line[i] == ' ' || line[i] == '\t') && !quoted:
			return line[:i], line[i+1:]
		}
	}
	return "", line
}

// same reports whether two entries open the same with the same key.
func same(a, b Entry) bool { return a.Half.Same(b.Half) && a.Only == b.Only }

// Add puts a key between our marks, which are made at the end where there are none. A
// key that is there already is written again.
func Add(text string, e Entry) (string, error) {
	line, err := e.line()
	if err != nil {
		return "", err
	}
	text, _ = Remove(text, e)
	lines := strings.Split(strings.TrimSuffix(text, "\n"), "\n")
	if text == "" {
		lines = nil
	}
	if at := slices.Index(lines, kinds.Closing); at >= 0 && slices.Contains(lines[:at], kinds.Opening) {
		lines = slices.Insert(lines, at, line)
	} else {
		lines = append(lines, kinds.Opening, line, kinds.Closing)
	}
	return strings.Join(lines, "\n") + "\n", nil
}

// Remove takes a key of ours out; false when it is not between our marks.
func Remove(text string, e Entry) (string, bool) {
	var out []string
	ours, removed := false, false
	lines := strings.SplitAfter(text, "\n")
	for _, raw := range lines {
		line := strings.TrimSpace(raw)
		switch line {
		case kinds.Opening:
			ours = true
		case kinds.Closing:
			ours = false
		}
		if ours && line != "" {
			if found := Read(kinds.Opening + "\n" + line); len(found) == 1 && same(found[0], e) {
				removed = true
				continue
			}
		}
		out = append(out, raw)
	}
	text = strings.Join(out, "")
	return strings.Replace(text, kinds.Opening+"\n"+kinds.Closing+"\n", "", 1), removed
}
