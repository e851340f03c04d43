package project

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Standing is where a project's work stands.
type Standing struct {
	Folder     string         `json:"folder"`
	Address    string         `json:"address"`
	State      string         `json:"state" says:"as on the board: in step, both, unsent, changed, behind, no answer ..."`
	Page       string         `json:"page,omitempty"`
	Account    string         `json:"account,omitempty"`
	Branch     string         `json:"branch"`
	Commit     string         `json:"commit,omitempty"`
	Ahead      int            `json:"ahead"`  // commits that are only here
	Behind     int            `json:"behind"` // commits that are only on the host, as last seen
	Unsent     bool           `json:"unsent"` // the branch is not on the host at all
	Gone       bool           `json:"gone,omitempty" says:"the branch was on the host, and is no longer there"`
	HeldBy     string         `json:"held_by,omitempty" says:"of a branch that is gone: the host's branch that holds all of it"`
	Asked      bool           `json:"asked"` // whether the host was asked just now
	Moved      bool           `json:"moved"` // the host has commits that were not received yet
	WhyNot     string         `json:"no_answer,omitempty" says:"why the host told nothing"`
	Reply      string         `json:"reply,omitempty" says:"then: no answer, refused, or not asked"`
	NowAt      string         `json:"now_at,omitempty" says:"its repository's present name: it was renamed, or given to another owner"`
	Changed    map[string]int `json:"changed"` // files by what happened to them: new, changed, deleted, renamed, clashing
	Branches   []string       `json:"branches_only_here,omitempty" says:"other branches whose commits are nowhere but here"`
	Follows    bool           `json:"receives_only,omitempty" says:"the project never sends"`
	Others     []string       `json:"branches_not_received,omitempty" says:"other branches of which the host has commits that are not here"`
	Stashes    int            `json:"stashes,omitempty"`
	Rescues    int            `json:"rescue_copies,omitempty"`
	Unfinished string         `json:"unfinished,omitempty" says:"what plain git has begun: a merge, a rebase, a cherry-pick, a revert ..."`
	CutOff     bool           `json:"cut_off,omitempty" says:"files were being received when that was cut off; a sync finishes it"`
	Remedies   []string       `json:"remedies,omitempty" says:"commands to go on with"`

	Clashing []string `json:"clashing,omitempty" says:"files that clash between the commits that are only here and those that are only on the host"`
	Meets    []Meets  `json:"changed_there_too,omitempty" says:"files that were changed here, and that others changed on the host"`
	NotAll   string   `json:"not_looked_through,omitempty" says:"why not all that is new on the host was looked through for such files"`
	Redo     []Beside `json:"to_do_again,omitempty" says:"files of yours that were put beside the other side's, and are still there"`

	Offer string `json:"offer,omitempty" says:"what is known of an offer of the branch that was made from here"`

	Held  []Held   `json:"claimed,omitempty" says:"files that are changed here, and that others have claimed"`
	Needs []string `json:"needs_claim,omitempty" says:"changed files that must be claimed before they are saved"`
	Taken []string `json:"claims_taken,omitempty" says:"claims of yours that others took"`

	Stopped      *fault.Fault `json:"-"` // why it is not synced as it is, with what can be done
	Ours, Theirs string       `json:"-"` // the commits here and, as git knows it, there
	Status       *git.Status  `json:"-"`
}

// Meets is a file that was changed here and on the host.
type Meets struct {
	Path    string    `json:"path"`
	By      string    `json:"by"`
	When    time.Time `json:"when"`
	Title   string    `json:"title" says:"of the newest commit on the host that changed it"`
	Commit  string    `json:"commit"`
	Branch  string    `json:"branch,omitempty" says:"the host's branch on which, where that is not the current one"`
	Clashes bool      `json:"clashes,omitempty" says:"what was committed on both sides does not merge by itself"`
}

// Held is a file that somebody else has claimed.
type Held struct {
	Path   string    `json:"path"`
	By     string    `json:"by"`
	Since  time.Time `json:"since"`
	Until  time.Time `json:"until"`
	Reason string    `json:"reason,omitempty"`
}

// Says tells of it in a line.
func (h Held) Says() string { return text.Visible(h.Path) + " is " + h.ByWhom() }

// ByWhom tells who has claimed it.
func (h Held) ByWhom() string {
	line := "claimed by " + text.Visible(h.By) + " until " + h.Until.Local().Format("2006-01-02 15:04")
	if h.Reason != "" {
		line += ": " + text.Excerpt(h.Reason, 120)
	}
	return line
}

// Beside is a file of the person's that was put beside the other side's.
type Beside struct {
	Path string `json:"path" says:"what it was called"`
	At   string `json:"beside" says:"where it is put, outside of what git tracks"`
	ID   string `json:"id" says:"git's id of its contents"`
	Mode string `json:"mode"`
}

// Clean reports whether every file is as in the last commit.
func (s *Standing) Clean() bool { return len(s.Changed) == 0 }

// StandClean is what StandHere gives of a work tree in which nothing is changed, and whose branch is where it is known to
// be on the host.
func StandClean(f *Folder, p Project) *Standing {
	return &Standing{Folder: f.Path, Address: p.Address, Page: p.Page, Account: p.Account, Follows: p.ReceivesOnly, Branch: f.Branch, Commit: f.Head, Ours: f.Head,
		Status: &git.Status{Commit: f.Head, Branch: f.Branch}, Changed: map[string]int{}}
}

// StandHere reads the work tree alone, with the ignored files if they are wanted.
func StandHere(ctx context.Context, f *Folder, p Project, ignored bool) (*Standing, error) {
	s := &Standing{Folder: f.Path, Address: p.Address, Page: p.Page, Account: p.Account, Follows: p.ReceivesOnly, Branch: f.Branch, Commit: f.Head, Ours: f.Head}
	st, err := f.Repo.Status(ctx, ignored)
	if err != nil {
		return nil, git.Fault(err, "git cannot tell what changed")
	}
	s.Status, s.Ahead, s.Behind, s.Changed = st, st.Ahead, st.Behind, st.Counts()
	return s, nil
}

// OwnPlace refuses a link, or a file, in the place of the folder that this program keeps in git's:
// what is written would go where that leads.
func OwnPlace(gitFolder string) error {
	place := filepath.Join(gitFolder, "uncinate")
	if k := files.KindOf(place); k == files.Folder || k == files.None {
		return nil
	}
	return fault.New(fault.Refused, "%s is not a folder of this program's", text.Visible(place)).
		Try("look where it leads", text.Command("ls", "-ld", "--", place)).Try("take it away, if nothing needs it", text.Command("rm", "--", place))
}

// contactFile is where it is noted, by its time, when the host of a project was last asked.
func contactFile(common string) string { return filepath.Join(common, "uncinate", "asked") }

// NoteContact notes that the host of a project answered, and what tags it told of.
func NoteContact(d *desk.Desk, f *Folder, told web.Refs) error {
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	tags := TagsOf(told)
	if len(TagNames(told)) == 0 {
		tags = TagsSeen(common) // a list of branches alone says nothing of tags
	}
	return Touch(common, tags)
}

// Touch notes that a host answered just now, and the tags that were seen to.
func Touch(common, tags string) error {
	if err := OwnPlace(common); err != nil {
		return err
	}
	return files.Dump(contactFile(common), []byte(tags))
}

// goneFile is where the branches are noted that the host was found to have no longer.
func goneFile(common string) string { return filepath.Join(common, "uncinate", "gone") }

// Gone lists the branches that the host was found to have no longer when a sync last asked it.
func Gone(common string) []string {
	data, err := files.Read(goneFile(common), 1<<20)
	if err != nil {
		return nil // nothing was noted; where it cannot be read, it is told once more
	}
	return strings.Split(string(data), "\n")
}

// NoteGone notes that it was told which branches the host has no longer.
func NoteGone(common string, gone []string) error {
	path := goneFile(common)
	if err := OwnPlace(common); err != nil {
		return err
	}
	if len(gone) == 0 {
		return files.Remove(path)
	}
	return files.Dump(path, []byte(strings.Join(gone, "\n")))
}

// TagNames lists the tags that a host told of.
func TagNames(told web.Refs) []string {
	var out []string
	for ref := range told.IDs {
		if strings.HasPrefix(ref, "refs/tags/") && !strings.HasSuffix(ref, "^{}") {
			out = append(out, ref)
		}
	}
	slices.Sort(out)
	return out
}

// TagsOf is a short form of the tags that a host told of, to know them again: some never
// come, since nothing that is received leads to them.
func TagsOf(told web.Refs) string {
	var b strings.Builder
	for _, ref := range TagNames(told) {
		b.WriteString(ref + " " + told.IDs[ref] + "\n")
	}
	return files.Short(b.String())
}

// TagsSeen is that form as it was when the host was last asked.
func TagsSeen(common string) string {
	data, err := files.Read(contactFile(common), 1<<10)
	if err != nil {
		return ""
	}
	return string(data)
}
