// Package kinds knows what projects are made of: which files show it, which can be
// made again, which are one person's or one machine's, which must travel with another,
// and which setting would keep the work as text that can be merged. It is data, a
// catalogue in TOML, to which a person may add.
package kinds

import (
	_ "embed"
	"errors"
	"fmt"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

//go:embed kinds.toml
var shipped []byte

// Kind is one thing a project can be made of.
type Kind struct {
	Name    string   `toml:"name" json:"name"`
	Markers []string `toml:"markers" json:"markers"`
	Spread  bool     `toml:"spread" json:"spread,omitempty"`
	Quiet   bool     `toml:"quiet" json:"quiet,omitempty"`
	Rules   []Rule   `toml:"rule" json:"rules,omitempty"`
	Sides   []Side   `toml:"side" json:"sides,omitempty"`
	Hints   []Hint   `toml:"hint" json:"hints,omitempty"`
}

// Rule is one ignore rule (gitignore documentation, "PATTERN FORMAT"), its reason, and
// the evidence that it asks for.
type Rule struct {
	Pattern  string   `toml:"pattern" json:"pattern"`
	Why      string   `toml:"why" json:"why"`
	Holds    []string `toml:"holds" json:"holds,omitempty"`
	From     []string `toml:"from" json:"from,omitempty"`
	Holding  string   `toml:"holding" json:"holding,omitempty"`
	Personal bool     `toml:"personal" json:"personal,omitempty"`
	Bring    string   `toml:"bring" json:"bring,omitempty"`
	Supply   bool     `toml:"supply" json:"supply,omitempty"`
	Begins   []string `toml:"begins" json:"begins,omitempty"`
	Binary   bool     `toml:"binary" json:"binary,omitempty"`
	Beside   bool     `toml:"beside" json:"beside,omitempty"`
	Sources  bool     `toml:"sources" json:"sources,omitempty"`
	Ahead    bool     `toml:"ahead" json:"ahead,omitempty"`
}

// Named reports whether the kind is to be named of a project in which these rules took something.
func (k *Kind) Named(taken []Rule) bool {
	if !k.Quiet {
		return k.Markers[0] != "*"
	}
	return slices.ContainsFunc(k.Rules, func(r Rule) bool {
		return slices.ContainsFunc(taken, func(t Rule) bool { return t.Why == r.Why && strings.HasSuffix("/"+t.Pattern, "/"+r.Pattern) })
	})
}

// anywhere reports whether a kind's rules with a slash count at any depth: those of what any project
// may hold.
func (k *Kind) anywhere() bool { return k.Markers[0] == "*" }

// Side is a file that travels with another one, and must not be left out.
type Side struct {
	Pattern string `toml:"pattern" json:"pattern"`
	Why     string `toml:"why" json:"why"`
}

// Hint is a setting of a toolchain that would keep the work as text.
type Hint struct {
	File  string `toml:"file" json:"file"`   // from the kind's folder
	Lacks string `toml:"lacks" json:"lacks"` // the hint is given where the file does not hold this
	Says  string `toml:"says" json:"says"`
}

// Shipped gives the kinds that ship with the program.
func Shipped() ([]Kind, error) { return Load("kinds.toml", shipped) }

// Load reads a catalogue. Its faults name the line and the column.
func Load(name string, data []byte) ([]Kind, error) {
	var c struct {
		Kind []Kind `toml:"kind"`
	}
	d := toml.NewDecoder(strings.NewReader(string(data)))
	d.DisallowUnknownFields()
	if err := d.Decode(&c); err != nil {
		var says []string
		var strict *toml.StrictMissingError
		var bad *toml.DecodeError
		switch {
		case errors.As(err, &strict):
			for _, e := range strict.Errors {
				line, column := e.Position()
				says = append(says, fmt.Sprintf("line %d, column %d: %s is not known here", line, column, text.Quote(strings.Join(e.Key(), "."))))
			}
		case errors.As(err, &bad):
			line, column := bad.Position()
			says = append(says, fmt.Sprintf("line %d, column %d: %s", line, column, text.Visible(bad.Error())))
		default:
			says = append(says, text.Visible(err.Error()))
		}
		f := fault.New(fault.Usage, "%s is not a catalogue of kinds: %s", text.Visible(name), says[0]).Because(err)
		for _, more := range says[1:] {
			f.Detail("%s", more)
		}
		return nil, f
	}
	for _, k := range c.Kind {
		if why := k.wrong(); why != "" {
			return nil, fault.New(fault.Usage, "%s: the kind %s %s", text.Visible(name), text.Quote(k.Name), why)
		}
	}
	return c.Kind, nil
}

func (k Kind) wrong() string {
	if k.Name == "" || len(k.Markers) == 0 {
		return "needs a name and markers"
	}
	patterns := slices.Clone(k.Markers)
	for _, r := range k.Rules {
		if r.Pattern == "" || r.Why == "" {
			return "has a rule without pattern or without why"
		}
		patterns = append(patterns, strings.TrimSuffix(r.Pattern, "/"))
		patterns = append(append(patterns, r.Holds...), r.Holding)
	}
	for _, s := range k.Sides {
		patterns = append(patterns, s.Pattern)
	}
	for _, h := range k.Hints {
		if h.File == "" || h.Lacks == "" || h.Says == "" {
			return "has a hint without file, lacks or says"
		}
	}
	for _, p := range patterns {
		if _, err := path.Match(p, ""); err != nil || strings.Contains(p, "**") || strings.HasPrefix(p, "!") {
			return fmt.Sprintf("has the pattern %s, which cannot be used here", text.Quote(p))
		}
	}
	return ""
}

// The lines between which our ignore rules stand.
const (
	Opening = "# from here: uncinate"
	Closing = "# to here: uncinate"
)

// Escape makes a path stand for itself in an ignore rule. A rule is one line: for a line break in
// a name any character stands.
func Escape(p string) string {
	p = strings.NewReplacer(`\`, `\\`, "*", `\*`, "?", `\?`, "[", `\[`, "\n", "?", "\r", "?").Replace(p)
	if strings.HasSuffix(p, " ") {
		p = p[:len(p)-1] + `\ `
	}
	return p
}

// Merge puts rules into an ignore file's contents: into our marked section, which is
// made at the end where there is none. Rules that stand anywhere are not repeated,
// and nothing that stands is changed. With nothing to add, the contents come back
// as they were.
func Merge(contents string, rules []Rule) string {
	stands := map[string]bool{}
	for line := range strings.SplitSeq(contents, "\n") {
		stands[strings.TrimSuffix(line, "\r")] = true
	}
	eol := "\n"
	if strings.Count(contents, "\r\n")*2 > strings.Count(contents, "\n") {
		eol = "\r\n"
	}
	var add strings.Builder
	why := ""
	for _, r := range rules {
		if stands[r.Pattern] {
			continue
		}
		stands[r.Pattern] = true
		if r.Why != why {
			why = r.Why
			add.WriteString("# " + why + eol)
		}
		add.WriteString(r.Pattern + eol)
	}
	if add.Len() == 0 {
		return contents
	}
	if i := strings.Index(contents, "\n"+Closing); i >= 0 && strings.Contains(contents[:i+1], Opening) {
		return contents[:i+1] + add.String() + contents[i+1:]
	}
	if contents != "" && !strings.HasSuffix(contents, "\n") {
		contents += eol
	}
	if contents != "" {
		contents += eol
	}
	return contents + Opening + eol + add.String() + Closing + eol
}
