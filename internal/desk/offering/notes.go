package offering

import (
	"context"
	"path/filepath"

	"uncinate/internal/desk"
	"uncinate/internal/world/files"
)

// Made is what is noted of a branch that was offered from a folder.
type Made struct {
	Number  string `json:"number"`
	Host    string `json:"host"`
	Owner   string `json:"owner"`
	Name    string `json:"name"`
	Account string `json:"account"`
	Target  string `json:"into"`
	State   string `json:"state"`
	Head    string `json:"head,omitempty"`   // of one that is over: the commit that was offered
	Merged  string `json:"merged,omitempty"` // the commit that came of it
	By      string `json:"by,omitempty"`     // who accepted or closed it
}

// Notes are those of one folder.
type Notes struct {
	Made  map[string]Made   `json:"made,omitempty"`  // by branch
	Seen  map[string]string `json:"seen,omitempty"`  // the commit that was looked at, by host, repository and number
	Tried map[string]string `json:"tried,omitempty"` // by branch, the number of the offer of which it is tried here
}

func notesAt(d *desk.Desk, folder string) string {
	return filepath.Join(d.Home.State, "offers", files.Short(folder)+".json")
}

// NotesOf reads the notes of a folder. What is damaged is no more than a note, and counts as none.
func NotesOf(d *desk.Desk, folder string) Notes {
	var n Notes
	if _, err := files.ReadJSON(notesAt(d, folder), &n); err != nil {
		return Notes{}
	}
	return n
}

// note changes the notes of a folder.
func note(ctx context.Context, d *desk.Desk, folder string, how func(*Notes)) error {
	var n Notes
	if _, err := files.ReadJSON(notesAt(d, folder), &n); err != nil { // no more than a note, and begun anew
		if err := files.Remove(notesAt(d, folder)); err != nil {
			return err
		}
	}
	return desk.Alter(ctx, d, notesAt(d, folder), func(n Notes) (Notes, error) {
		if n.Made == nil {
			n.Made = map[string]Made{}
		}
		if n.Seen == nil {
			n.Seen = map[string]string{}
		}
		if n.Tried == nil {
			n.Tried = map[string]string{}
		}
		how(&n)
		return n, nil
	})
}

// NoteMade notes which offer a branch is.
func NoteMade(ctx context.Context, d *desk.Desk, folder, branch string, m Made) error {
	return note(ctx, d, folder, func(n *Notes) { n.Made[branch] = m })
}

// Forget forgets what was offered of a branch.
func Forget(ctx context.Context, d *desk.Desk, folder, branch string) error {
	if _, noted := NotesOf(d, folder).Made[branch]; !noted {
		return nil
	}
	return note(ctx, d, folder, func(n *Notes) { delete(n.Made, branch) })
}

// mostSeen is of how many offers it is noted what was looked at.
const mostSeen = 500

func seenKey(host string, o Offer) string { return host + " " + o.Path() + " " + o.Number }

// NoteSeen notes which commit of an offer was looked at.
func NoteSeen(ctx context.Context, d *desk.Desk, folder, host string, o Offer) error {
	if o.Head == "" || NotesOf(d, folder).Seen[seenKey(host, o)] == o.Head {
		return nil
	}
	return note(ctx, d, folder, func(n *Notes) {
		if len(n.Seen) >= mostSeen {
			n.Seen = map[string]string{}
		}
		n.Seen[seenKey(host, o)] = o.Head
	})
}

// Seen is the commit of an offer that was looked at last; "" where it was not.
func Seen(d *desk.Desk, folder, host string, o Offer) string {
	return NotesOf(d, folder).Seen[seenKey(host, o)]
}

// NoteTried notes that a branch here is that of an offer of somebody else, from a repository of theirs.
func NoteTried(ctx context.Context, d *desk.Desk, folder, branch, number string) error {
	return note(ctx, d, folder, func(n *Notes) { n.Tried[branch] = number })
}

// SaysOf tells what is noted of a branch's offers; "" for nothing.
func SaysOf(d *desk.Desk, folder, branch string) string {
	n := NotesOf(d, folder)
	if m, made := n.Made[branch]; made {
		return "number " + m.Number + " to " + m.Owner + "/" + m.Name + ", for " + m.Target + ", " + m.State + " when it was asked about last"
	}
	if number := n.Tried[branch]; number != "" {
		return "the branch is that of number " + number + ", which is tried here"
	}
	return ""
}
