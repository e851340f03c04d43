// Package histories decides what a branch here and its counterpart there need to be in
// step: from what is known of the two, and nothing else.
package histories

// Two is what is known of a branch on both sides.
type Two struct {
	Here, There bool // whether each has a commit at all
	Known       bool // there had the branch when it was last looked at
	Related     bool // they have a commit in common
	Ahead       int  // commits that only here has
	Behind      int  // commits that only there has
	Rewritten   bool // there no longer holds what it held when it was last looked at
	Own         int  // with Rewritten: commits here that were never there
	Merges      bool // some of the commits that only here has are merges
	Merge       bool // both sides are to be merged, not replayed
	InOnly      bool // nothing is to be sent
}

// Need is what has to be done.
type Need string

// The needs. What receives may be followed by sending, see Sends.
const (
	Nothing     Need = "nothing"
	FastForward Need = "fast-forward" // only there has new commits; or there is nothing here yet
	Send        Need = "send"         // only here has new commits; or there is nothing there yet
	Replay      Need = "replay"       // own commits are rewritten on top of theirs
	Merge       Need = "merge"        // a commit with both as its parents
	Take        Need = "take"         // there was rewritten, and nothing of one's own is on top
	Dropped     Need = "dropped"      // there had the branch and has it no more
	Strange     Need = "strange"      // nothing in common
)

// Decide tells what two histories need.
func Decide(t Two) Need {
	switch {
	case !t.Here && !t.There:
		return Nothing
	case !t.There && t.Known:
		return Dropped
	case !t.There:
		return unless(t.InOnly, Send)
	case !t.Here:
		return FastForward
	case t.Ahead == 0 && t.Behind == 0:
		return Nothing
	case !t.Related && !t.Rewritten:
		return Strange
	case t.Ahead == 0:
		return FastForward
	case t.Behind == 0 && !t.Rewritten:
		return unless(t.InOnly, Send)
	case t.Rewritten && t.Own == 0:
		return Take
	case t.Rewritten && !t.Merges:
		return Replay
	case t.Rewritten:
		return Strange // merges on top of what is gone: only the person knows what is meant
	case t.Merge || t.Merges:
		return Merge
	}
	return Replay
}

func unless(inOnly bool, n Need) Need {
	if inOnly {
		return Nothing
	}
	return n
}

// Sends reports whether commits are to be sent once the need is seen to.
func (n Need) Sends(t Two) bool {
	return !t.InOnly && (n == Send || n == Replay || n == Merge)
}

// BringsIn reports whether the files here change.
func (n Need) BringsIn() bool {
	return n == FastForward || n == Replay || n == Merge || n == Take
}
