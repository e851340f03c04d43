package clashing

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"uncinate/internal/core/joining"
)

// ByHand is the way to decide a clash by a file that was made for it; the others are mine, theirs
// and both, as where two sides are joined.
const ByHand = "by-hand"

// Decision is how a clash ends.
type Decision struct {
	Way  string `json:"way"`            // mine, theirs, both or by-hand
	Made Entry  `json:"-"`              // by hand: what stands at its path then; known once it is kept
	Mode string `json:"mode,omitempty"` // by hand: its mode, where it is not made yet
}

// Ways are those by which a clash can be decided.
func (c Clash) Ways() []string {
	ways := []string{joining.Mine, joining.Theirs}
	if c.keepsBoth() {
		ways = append(ways, joining.Both)
	}
	if _, _, _, fit := c.Texts(); fit {
		ways = append(ways, ByHand)
	}
	return ways
}

// keepsBoth reports whether there is anything of ours to put beside what theirs is.
func (c Clash) keepsBoth() bool { return !c.inside() && len(c.Theirs) > 0 && len(c.besides()) > 0 }

// inside reports whether a repository inside is at stake, which is not a file to put beside.
func (c Clash) inside() bool { return c.Kind == SubmoduleMove }

// besides are the files that only we have in this form.
func (c Clash) besides() []Entry {
	return slices.DeleteFunc(slices.Clone(c.Mine), func(e Entry) bool {
		return slices.ContainsFunc(c.Theirs, func(t Entry) bool { return t.ID == e.ID && (t.Mode == link) == (e.Mode == link) }) || at(c.Base, e.Path) == e
	})
}

// Texts gives the files that a text made by hand is made from; one that a side does not have is
// empty. fit reports whether it can be made by hand at all: where one ordinary file is at stake.
func (c Clash) Texts() (base, mine, theirs Entry, fit bool) {
	if c.Kind == Folder || c.Kind == SubmoduleMove || c.Kind == Case {
		return base, mine, theirs, false
	}
	pick := func(side []Entry) Entry {
		if e := at(side, c.At); e.ID != "" || len(side) == 0 {
			return e
		}
		return side[0]
	}
	mine, theirs = pick(c.Mine), pick(c.Theirs)
	if c.Kind != OneName {
		base = pick(c.Base)
	}
	return base, mine, theirs, mine.Mode != link && theirs.Mode != link
}

// HandMode is the mode of what is made by hand: the one that was changed, or of a new file
// executable where one side has it so.
func (c Clash) HandMode() string {
	base, mine, theirs, _ := c.Texts()
	switch {
	case theirs.ID == "":
		return mine.Mode
	case mine.ID == "":
		return theirs.Mode
	case base.ID == "":
		return max(mine.Mode, theirs.Mode)
	case mine.Mode != base.Mode:
		return mine.Mode
	}
	return theirs.Mode
}

// Outcome is what becomes of a clash: what is at its paths, and what of ours is put beside.
func (c Clash) Outcome(d Decision) (put, beside []Entry, err error) {
	switch d.Way {
	case joining.Mine:
		return c.Mine, nil, nil
	case joining.Theirs:
		return c.Theirs, nil, nil
	case joining.Both:
		switch {
		case c.inside():
			return nil, nil, fmt.Errorf("%s is a repository inside, and cannot be there twice", c.At)
		case len(c.Theirs) == 0:
			return c.Mine, nil, nil
		}
		return c.Theirs, c.besides(), nil
	case ByHand:
		made := d.Made
		made.Path = c.At
		return []Entry{made}, nil, nil
	}
	return nil, nil, fmt.Errorf("%q is not a way to decide", d.Way)
}

// Gone are the paths that make way for an outcome: all that it is about, and the names that git
// made up.
func (c Clash) Gone() []string { return slices.Concat(c.Paths, c.made) }

// BesideName is the name of what is put beside: by the machine that it is from, and never below
// what is a file in the tree that comes of it.
func BesideName(p, machine string, file, taken func(string) bool) string {
	for i, c := range p {
		if c == '/' && file(p[:i]) {
			return joining.Beside(p[:i], machine, func(name string) bool { return taken(path.Join(name, p[i+1:])) || file(name) }) + p[i:]
		}
	}
	return joining.Beside(p, machine, func(name string) bool { return taken(name) || file(name) })
}

// Says tells what sort of clash it is, in words; there is where the other side is, as "on the
// host".
func (c Clash) Says(there string) string {
	first := func(side []Entry) string {
		for _, e := range side {
			if at(c.Base, e.Path).ID == "" {
				return e.Path
			}
		}
		return c.At
	}
	from := c.At
	for _, b := range c.Base {
		if at(c.Mine, b.Path).ID == "" || at(c.Theirs, b.Path).ID == "" {
			from = b.Path
			break
		}
	}
	switch c.Kind {
	case Added:
		return "both sides added it"
	case DeletedHere:
		return "deleted here, changed " + there
	case DeletedThere:
		return "changed here, deleted " + there
	case Folder:
		if at(c.Mine, c.At).ID != "" {
			return "a file here, a folder " + there
		}
		return "a folder here, a file " + there
	case RenamedTwice:
		return fmt.Sprintf("%s was renamed to %s here, and to %s %s", from, first(c.Mine), first(c.Theirs), there)
	case OneName:
		return "each side gave this name to another file"
	case RenamedHere:
		if len(c.Theirs) == 0 {
			return fmt.Sprintf("renamed here (from %s), deleted %s", from, there)
		}
		return fmt.Sprintf("renamed here (from %s), changed %s", from, there)
	case RenamedThere:
		if len(c.Mine) == 0 {
			return fmt.Sprintf("deleted here, renamed %s (from %s)", there, from)
		}
		return fmt.Sprintf("changed here, renamed %s (from %s)", there, from)
	case Mode:
		return "executable on one side only"
	case Type:
		if at(c.Mine, c.At).Mode == link {
			return "a link here, a file " + there
		}
		return "a file here, a link " + there
	case SubmoduleMove:
		return "a repository inside, at another commit on each side"
	case Case:
		return strings.Join(c.Paths, " and ") + " differ in upper and lower case alone"
	}
	return "both sides changed it"
}
