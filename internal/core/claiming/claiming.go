// Package claiming is what people say of the files that they work on: a claim holds a file, a folder
// or a pattern for one person, until a time. All claims of a repository are one JSON document.
package claiming

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"
)

// Claim is one of them.
type Claim struct {
	ID      string    `json:"id"`                                                                                          // of the claim: 16 hexadecimal digits
	Path    string    `json:"path" says:"a file, a folder (which ends with a slash) or a pattern, from the project's top"` // with slashes
	By      string    `json:"by" says:"the person's name"`
	Key     string    `json:"key" says:"by which the person is known: the user on the host, or the e-mail address for commits"`
	Machine string    `json:"machine,omitempty"`
	Since   time.Time `json:"since" says:"by the host's clock, where it tells the time"`
	Until   time.Time `json:"until" says:"when it ends"`
	Reason  string    `json:"reason,omitempty"`
	Branch  string    `json:"branch,omitempty" says:"the claim ends once the host no longer has this branch"`
	Taken   *Taken    `json:"taken_from,omitempty" says:"whose claims it replaced"`
}

// Taken is whom a claim was taken from.
type Taken struct {
	Key   string   `json:"key"`
	By    string   `json:"by"`
	Paths []string `json:"paths"`
}

// Bounds of what is read.
const (
	MostClaims  = 10_000
	MostBytes   = 8 << 20 // of the document
	mostPath    = 4096    // bytes
	mostPattern = 256     // bytes
	mostText    = 1000    // bytes of a name or a reason
)

// document is how claims are kept.
type document struct {
	Version int     `json:"version"`
	Claims  []Claim `json:"claims"`
}

// Write gives the document of claims.
func Write(all []Claim) ([]byte, error) {
	slices.SortFunc(all, func(a, b Claim) int { return strings.Compare(a.Path+"\x00"+a.ID, b.Path+"\x00"+b.ID) })
	out, err := json.MarshalIndent(document{1, append([]Claim{}, all...)}, "", " ")
	return append(out, '\n'), err
}

// Read reads a document, which anybody with the right to write may have made: what is not a claim as
// Write gives them is an error.
func Read(data []byte) ([]Claim, error) {
	var d document
	in := json.NewDecoder(bytes.NewReader(data))
	if err := in.Decode(&d); err != nil {
		return nil, fmt.Errorf("it is not a list of claims: %w", err)
	}
	switch {
	case d.Version != 1:
		return nil, fmt.Errorf("it is of version %d, and this program reads version 1", d.Version)
	case len(d.Claims) > MostClaims:
		return nil, fmt.Errorf("it holds %d claims, and at most %d are read", len(d.Claims), MostClaims)
	}
	for _, c := range d.Claims {
		if err := c.Check(); err != nil {
			return nil, err
		}
	}
	return d.Claims, nil
}

// Check says what is wrong with a claim.
func (c Claim) Check() error {
	for what, s := range map[string]string{"the person": c.By, "the person's key": c.Key, "the machine": c.Machine, "the reason": c.Reason, "the branch": c.Branch} {
		if len(s) > mostText || !utf8.ValidString(s) {
			return fmt.Errorf("%s of a claim is longer than %d bytes, or not text", what, mostText)
		}
	}
	switch {
	case c.Key == "" || c.By == "":
		return errors.New("a claim says nobody's name")
	case len(c.ID) != 16 || strings.Trim(c.ID, "0123456789abcdef") != "":
		return errors.New("a claim has no id")
	}
	return CheckPath(c.Path)
}

// CheckPath says why a path cannot be claimed.
func CheckPath(p string) error {
	switch {
	case strings.Trim(p, "/") == "" || p == ".":
		return errors.New("a claim needs a file, a folder or a pattern")
	case len(p) > mostPath || pattern(p) && len(p) > mostPattern || !utf8.ValidString(p):
		return fmt.Errorf("the path of a claim is longer than %d bytes (a pattern %d), or not text", mostPath, mostPattern)
	case strings.HasPrefix(p, "/"), slices.ContainsFunc(strings.Split(strings.TrimSuffix(p, "/"), "/"), func(s string) bool {
		return s == "" || s == "." || s == ".." || strings.EqualFold(s, ".git")
	}):
		return errors.New("the path of a claim is not one below the project's top")
	}
	return nil
}

// Over reports whether a claim has ended at a time. grace is for a time that nobody's clock on the host
// confirms. branches are those of the host; nil where it was not asked.
func (c Claim) Over(now time.Time, grace time.Duration, branches func(string) bool) bool {
	return now.After(c.Until.Add(grace)) || c.Branch != "" && branches != nil && !branches(c.Branch)
}

// pattern reports whether a path has signs that stand for others.
func pattern(p string) bool { return strings.ContainsAny(p, "*?[") }

// Covers reports whether a path is one that a claim is about.
func (c Claim) Covers(p string) bool { return meets(literal(p), forms(c.Path)...) }

// Overlap reports whether a file can be that two claims' paths are both about.
func Overlap(a, b string) bool {
	if strings.TrimSuffix(a, "/") == strings.TrimSuffix(b, "/") {
		return true
	}
	for _, x := range forms(a) {
		if meets(x, forms(b)...) {
			return true
		}
	}
	return false
}

// sign is one sign of a path: itself, or one that stands for others.
type sign struct {
	is   rune
	kind byte // 0: itself; '?': any but a slash; '*': any number of those; 'd': any number of any
}

func literal(p string) []sign {
	var out []sign
	for _, r := range p {
		out = append(out, sign{is: r})
	}
	return out
}

// forms are the paths of files that a claim is about: a file's own, all below a folder, and those that
// a pattern names as ignore rules do (gitignore documentation), without a slash inside at any depth.
// A pattern for folders ends with a slash.
func forms(p string) [][]sign {
	folder := strings.HasSuffix(p, "/")
	p = strings.TrimSuffix(p, "/")
	if !pattern(p) {
		if folder {
			return [][]sign{below(literal(p))}
		}
		return [][]sign{literal(p)}
	}
	all := [][]sign{signs(p)}
	if !strings.Contains(p, "/") {
		all = append(all, append([]sign{{kind: 'd'}, {is: '/'}}, all[0]...))
	}
	if folder {
		for i := range all {
			all[i] = below(all[i])
		}
	}
	return all
}

func below(p []sign) []sign { return append(slices.Clone(p), sign{is: '/'}, sign{kind: 'd'}) }

// signs reads a pattern.
func signs(p string) []sign {
	var out []sign
	for i := 0; i < len(p); {
		r, n := utf8.DecodeRuneInString(p[i:])
		switch {
		case strings.HasPrefix(p[i:], "**"):
			out, n = append(out, sign{kind: 'd'}), 2
			if strings.HasPrefix(p[i:], "**/") { // none at all, too
				n = 3
			}
		case r == '*':
			out = append(out, sign{kind: '*'})
		case r == '?':
			out = append(out, sign{kind: '?'})
		case r == '[' && strings.IndexByte(p[i:], ']') > 1:
			out, n = append(out, sign{kind: '?'}), strings.IndexByte(p[i:], ']')+1
		case r == '\\' && i+1 < len(p):
			next, m := utf8.DecodeRuneInString(p[i+1:])
			out, n = append(out, sign{is: next}), 1+m
		default:
			out = append(out, sign{is: r})
		}
		i += n
	}
	return out
}

// meets reports whether some path is named by one form and by another: both are gone through side by
// side, and what is reached once is not gone through again.
func meets(a []sign, others ...[]sign) bool {
	return slices.ContainsFunc(others, func(b []sign) bool {
		seen := make([]bool, (len(a)+1)*(len(b)+1))
		var from func(i, j int) bool
		from = func(i, j int) bool {
			at := i*(len(b)+1) + j
			if seen[at] {
				return false
			}
			seen[at] = true
			if i == len(a) && j == len(b) {
				return true
			}
			if i < len(a) && a[i].many() && from(i+1, j) || j < len(b) && b[j].many() && from(i, j+1) {
				return true
			}
			if i == len(a) || j == len(b) || !a[i].shares(b[j]) {
				return false
			}
			return from(a[i].after(i), b[j].after(j))
		}
		return from(0, 0)
	})
}

// many reports whether a sign stands for any number of them.
func (s sign) many() bool { return s.kind == '*' || s.kind == 'd' }

// after is where a path goes on behind one sign of it.
func (s sign) after(i int) int {
	if s.many() {
		return i
	}
	return i + 1
}

// shares reports whether one sign of a path can be both.
func (s sign) shares(t sign) bool {
	switch {
	case s.kind == 0 && t.kind == 0:
		return s.is == t.is
	case s.kind == 0:
		return s.is != '/' || t.kind == 'd'
	case t.kind == 0:
		return t.is != '/' || s.kind == 'd'
	}
	return true
}
