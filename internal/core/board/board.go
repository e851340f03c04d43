// Package board puts projects in an order: what needs the person most comes first.
package board

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"uncinate/internal/core/text"
)

// Facts are what is known of one project.
type Facts struct {
	Lost       bool   // its folder is not there
	Broken     string // why git cannot work with it; "" where it can
	Refused    string // why the host told nothing; "" where it did
	Reply      string // with Refused: "no answer", "refused" or "not asked"
	NowAt      string // where its repository is now; "" where it is where it was
	Unfinished string // what plain git has begun, such as "a merge"
	Detached   bool   // no branch is checked out
	CutOff     bool   // files were being received when that was cut off
	Empty      bool   // no commit here
	Unsent     bool   // the branch was never sent
	Gone       bool   // the host had the branch, and no longer has it
	HeldBy     string // the host's branch that holds all of one that is gone; "" where that is not known
	Follows    bool   // it never sends
	Ahead      int
	Behind     int
	Moved      bool // the host has commits that were not received
	Changed    map[string]int
	Branches   []string // other branches with commits that are nowhere but here
	Others     []string // other branches of which the host has commits that are not here
	Stashes    int
	Offers     int      // offers to merge that wait for the account
	Clash      []string // files that clash between the commits of both sides
	Meets      []string // files that were changed here, and on the host too
}

// Changes says which files are not saved, by what happened to them.
func Changes(m map[string]int) string {
	var parts []string
	for _, k := range []string{"clashing", "changed", "deleted", "renamed", "new", "untracked"} {
		switch {
		case m[k] == 0:
		case k == "untracked":
			parts = append(parts, text.Count(m[k], "file")+" out of git and still here")
		case len(parts) == 0:
			parts = append(parts, text.Count(m[k], k+" file"))
		default:
			parts = append(parts, text.Number(m[k])+" "+k)
		}
	}
	return strings.Join(parts, ", ")
}

// Word is a project's state in a word, Says the rest, and Rank how much it needs the
// person: 0 the most.
func (f Facts) Word() (word, says string, rank int) {
	var parts []string
	add := func(yes bool, format string, args ...any) {
		if yes {
			parts = append(parts, fmt.Sprintf(format, args...))
		}
	}
	add(f.Unfinished != "", "%s is not finished", f.Unfinished)
	add(f.Detached && f.Unfinished == "", "no branch is checked out")
	add(len(f.Clash) > 0, "%s: %s", text.Either(len(f.Clash) == 1, "1 file clashes", text.Count(len(f.Clash), "file")+" clash"), few(f.Clash))
	add(len(f.Clash) == 0 && len(f.Meets) > 0, "changed on the host too: %s", few(f.Meets))
	add(f.CutOff, "files were being received when that was cut off")
	add(f.Ahead > 0 && !f.Unsent, "%s %s", text.Count(f.Ahead, "commit"), text.Either(f.Follows, "only here, and this copy never sends", "not sent"))
	add(f.Unsent && !f.Empty, "never sent")
	add(f.Gone && f.HeldBy != "", "its branch is no longer on the host, where %s holds all of it", f.HeldBy)
	add(f.Gone && f.HeldBy == "", "its branch is no longer on the host")
	add(f.Behind > 0, "%s not received", text.Count(f.Behind, "commit"))
	add(f.Moved && f.Behind == 0, "new commits on the host")
	add(len(f.Changed) > 0, "%s", Changes(f.Changed))
	add(len(f.Branches) > 0, "%s only here: %s", text.Either(len(f.Branches) == 1, "branch", "branches"), strings.Join(f.Branches, ", "))
	add(len(f.Others) > 0, "%s", NewFor(f.Others))
	add(f.Stashes > 0, "%s stashed", text.Count(f.Stashes, "change"))
	add(f.Offers > 0, "%s", text.Either(f.Offers == 1, "1 offer to merge waits", text.Count(f.Offers, "offer")+" to merge wait"))
	add(f.NowAt != "", "its repository is now called %s", f.NowAt)
	add(f.NowAt == "" && f.Refused != "", "%s", f.Refused)
	says = strings.Join(parts, "; ")
	here := f.Ahead > 0 || f.Unsent && !f.Empty
	switch {
	case f.Lost:
		return "missing", "its folder is no longer there", 0
	case f.Broken != "":
		return "broken", f.Broken, 1
	case f.Unfinished != "" || f.CutOff || f.Changed["clashing"] > 0:
		return "unfinished", says, 2
	case f.Detached:
		return "no branch", says, 2
	case f.NowAt != "":
		return "elsewhere", says, 3
	case f.Refused != "":
		return cmp.Or(f.Reply, "no answer"), says, 4
	case len(f.Clash) > 0:
		return "clash", says, 5
	case len(f.Meets) > 0:
		return "overlap", says, 6
	case here && (f.Behind > 0 || f.Moved):
		return "both", says, 7
	case here, len(f.Branches) > 0, f.Stashes > 0:
		return "unsent", says, 8
	case len(f.Changed) > 0:
		return "changed", says, 9
	case f.Gone:
		return "gone", says, 10
	case f.Behind > 0 || f.Moved:
		return "behind", says, 11
	case len(f.Others) > 0:
		return "behind", says, 12
	case f.Offers > 0:
		return "offered", says, 13
	case f.Empty:
		return "empty", "no commit yet", 14
	}
	return "in step", says, 15
}

// few names the first of some paths.
func few(paths []string) string {
	if len(paths) > 3 {
		return fmt.Sprintf("%s and %d more", strings.Join(paths[:3], ", "), len(paths)-3)
	}
	return strings.Join(paths, ", ")
}

// NewFor says that the host has commits of other branches than the current one.
func NewFor(branches []string) string {
	return "new commits on the host for " + strings.Join(branches, ", ")
}

// Age says how long ago something was, in its largest unit.
func Age(since time.Duration) string {
	switch {
	case since < time.Minute:
		return "just now"
	case since < time.Hour:
		return fmt.Sprintf("%d min", int(since.Minutes()))
	case since < 48*time.Hour:
		return fmt.Sprintf("%d h", int(since.Hours()))
	}
	return text.Count(int(since.Hours()/24), "day")
}
