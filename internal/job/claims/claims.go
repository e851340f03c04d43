// Package claims is who works on which file. All claims of a repository are one document in one ref
// on the host, on top of those before; what is known of it here is kept in git's folder of the
// project, so that nothing needs to be asked to tell of it. Nothing of it is among the project's own
// refs.
package claims

import (
	"context"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/claiming"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Where the claims are on the host: in a ref of our own or, where the host hides or refuses that, in a
// branch.
const (
	Ref    = "refs/uncinate/claims"
	Branch = "refs/heads/" + web.ClaimsBranch
)

// grace is how long a claim is good behind its end where no clock of the host confirms the time.
const grace = 15 * time.Minute

// kept is what is known here.
type kept struct {
	At     string           `json:"at,omitempty"`     // the repository's address
	Ref    string           `json:"ref,omitempty"`    // where they are on the host
	Commit string           `json:"commit,omitempty"` // the one that was read last
	Me     string           `json:"me,omitempty"`     // by which the person is known there
	Ahead  *time.Duration   `json:"ahead,omitempty"`  // the host's clock, against this machine's; nil: it tells no time
	Gone   bool             `json:"gone,omitempty"`   // the host dropped the ref
	Claims []claiming.Claim `json:"claims,omitempty"`
	Told   []string         `json:"told,omitempty"` // claims of which the person was told that they replaced theirs
}

// Book is what is known of the claims of a project.
type Book struct {
	kept
	desk     *desk.Desk
	folder   *project.Folder
	common   string
	branches func(string) bool // of the host; nil where it was not asked
}

func (b *Book) path() string { return filepath.Join(b.common, "uncinate", "claims.json") }

// Known gives what is known here, without asking anybody and without running git.
func Known(d *desk.Desk, f *project.Folder) (*Book, error) {
	_, common, err := git.Folders(f.Path)
	if err == nil {
		err = project.OwnPlace(common)
	}
	if err != nil {
		return nil, err
	}
	b := &Book{desk: d, folder: f, common: common}
	if _, err := files.ReadJSON(b.path(), &b.kept); err != nil {
		b.kept = kept{} // it is received again
	}
	b.Claims = slices.DeleteFunc(b.Claims, func(c claiming.Claim) bool { return c.Check() != nil })
	return b, nil
}

// Seen is the same once the host told its refs: where it has claims that are not known yet, they are
// received. Where there are none it costs nothing.
func Seen(ctx context.Context, d *desk.Desk, f *project.Folder, h *project.Tie, refs web.Refs) (*Book, error) {
	return seen(ctx, d, f, h, refs, false)
}

// hold takes the claims of a project for one run.
func (b *Book) hold(ctx context.Context) (*files.Held, error) {
	return b.desk.WaitAt(ctx, filepath.Join(b.common, "uncinate", "claims.held"), "the claims")
}

// seen does it; held says that the caller holds them already.
func seen(ctx context.Context, d *desk.Desk, f *project.Folder, h *project.Tie, refs web.Refs, held bool) (_ *Book, err error) {
	b, err := Known(d, f)
	if err != nil {
		return nil, err
	}
	if b.At != h.Address.Key() { // it was moved to another host
		b.kept = kept{At: h.Address.Key()}
	}
	at := Ref
	if refs.IDs[at] == "" {
		at = Branch
	}
	b.branches = func(name string) bool { return refs.Branch(name) != "" }
	id := refs.IDs[at]
	if id == "" {
		if b.Commit != "" && len(b.active()) > 0 && !b.Gone { // it was there before
			b.Gone = true
			return b, b.write()
		}
		return b, nil
	}
	if id == b.Commit && at == b.Ref && !b.Gone {
		return b, nil
	}
	if b.Me, _, err = me(d, f, h); err != nil {
		return nil, err
	}
	if !held {
		one, err := b.hold(ctx)
		if err != nil {
			return nil, err
		}
		defer fault.Also(&err, one.Release)
	}
	b.clock(refs.Date)
	if err := b.receive(ctx, h, at, id); err != nil {
		return nil, err
	}
	return b, b.write()
}

func (b *Book) write() error { return files.WriteJSON(b.path(), b.kept) }

// clock notes how the host's clock stands to this machine's.
func (b *Book) clock(there time.Time) {
	if !there.IsZero() {
		ahead := there.Sub(b.desk.Now()).Round(time.Second)
		b.Ahead = &ahead
	}
}

// now is the time on the host, and for how long a claim is good behind its end.
func (b *Book) now() (time.Time, time.Duration) {
	if b.Ahead == nil {
		return b.desk.Now().UTC(), grace
	}
	return b.desk.Now().UTC().Add(*b.Ahead), 0
}

func (b *Book) over(c claiming.Claim) bool {
	now, long := b.now()
	return c.Over(now, long, b.branches)
}

// active are the claims that have not ended.
func (b *Book) active() []claiming.Claim {
	return slices.DeleteFunc(slices.Clone(b.Claims), b.over)
}

// me is by what the person is known on the host, and the name: the user of the account, or on a plain
// server, where several sign in as one, who commits.
func me(d *desk.Desk, f *project.Folder, h *project.Tie) (key, name string, err error) {
	if h.Account != nil && h.Account.Host != "" {
		host, err := accounts.HostOf(d, h.Account)
		if err != nil {
			return "", "", err
		}
		if host.Shell == nil {
			return h.Account.User, h.Account.User, nil
		}
	}
	if err := project.Signed(f); err != nil {
		return "", "", err
	}
	for _, s := range f.Settings {
		switch strings.ToLower(s.Key) {
		case "user.email":
			key = s.Value
		case "user.name":
			name = s.Value
		}
	}
	return key, name, nil
}

// Held is a file that is changed here and claimed by somebody else.
type Held = project.Held

// Others gives those of some paths that others have claimed.
func (b *Book) Others(paths []string) []Held {
	var out []Held
	for _, c := range b.active() {
		if c.Key == b.Me {
			continue
		}
		for _, p := range paths {
			if c.Covers(p) {
				out = append(out, Held{Path: p, By: c.By, Since: c.Since, Until: c.Until, Reason: c.Reason})
			}
		}
	}
	slices.SortFunc(out, func(a, b Held) int { return strings.Compare(a.Path+"\x00"+a.By, b.Path+"\x00"+b.By) })
	return slices.CompactFunc(out, func(a, b Held) bool { return a.Path == b.Path })
}

// Mine reports whether the person has claimed a path.
func (b *Book) Mine(p string) bool {
	return slices.ContainsFunc(b.active(), func(c claiming.Claim) bool { return c.Key == b.Me && c.Covers(p) })
}

// TakenFromMe tells, once, which claims of the person's others took.
func (b *Book) TakenFromMe() ([]string, error) {
	var says []string
	for _, c := range b.active() {
		if c.Taken == nil || c.Taken.Key != b.Me || slices.Contains(b.Told, c.ID) {
			continue
		}
		line := text.Visible(c.By) + " took your claim of " + text.Excerpt(strings.Join(desk.Visible(c.Taken.Paths), ", "), 120) + " at " + c.Since.Local().Format("2006-01-02 15:04")
		if c.Reason != "" {
			line += ": " + text.Excerpt(c.Reason, 120)
		}
		says, b.Told = append(says, line), append(b.Told, c.ID)
	}
	if len(says) == 0 {
		return nil, nil
	}
	return says, b.write()
}

// Dropped tells that the host dropped the claims; "" where it did not.
func (b *Book) Dropped() string {
	if !b.Gone {
		return ""
	}
	return "The host no longer has the claims that it had: " + text.Count(len(b.active()), "claim") + " that " + desk.IsAre(len(b.active())) + " known here. The next claim puts them there again."
}

// Line is the command that claims paths.
func Line(given string, paths []string) string {
	var options []string
	if given != "." && given != "" {
		options = []string{"--folder", given}
	}
	words := append([]string{"uncinate", "claim", "create"}, options...)
	if slices.ContainsFunc(paths, func(p string) bool { return strings.HasPrefix(p, "-") }) {
		words = append(words, "--")
	}
	return text.Command(append(words, paths...)...)
}

// NotClaimed is the fault about files that must be claimed before they are saved.
func NotClaimed(given string, needs []string) *fault.Fault {
	f := fault.New(fault.Decision, "%s must be claimed before %s saved, and you have not claimed %s", text.Count(len(needs), "file"), text.Either(len(needs) == 1, "it is", "they are"), desk.ItThem(len(needs)))
	desk.FirstOf(f, desk.Visible(needs))
	return f.Detail("The project asks for that by its .gitattributes.").Try("claim "+desk.ItThem(len(needs)), Line(given, needs[:min(len(needs), desk.MostShown)]))
}
