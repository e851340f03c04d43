package claims

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/claiming"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Options say what is claimed, or released.
type Options struct {
	Folder string
	Paths  []string // from the project's top
	Until  string   // a time, or for how long; "" for usualDays
	Reason string
	From   string // whose claims are taken
	Branch bool   // they end once the host no longer has the current branch
}

// usually is how long a claim holds unless said otherwise.
const usually = 7 * 24 * time.Hour

// mostRounds is how often a change of the claims is tried while others change them too.
const mostRounds = 40

// Change is a change of claims, planned.
type Change struct {
	*Book
	tie     *project.Tie
	given   string
	options Options
	name    string // the person's
	until   time.Time
	refs    web.Refs
	Taken   []claiming.Claim // others' claims that are replaced
	Ends    []claiming.Claim // own claims that are released
	release bool
	held    bool // the claims are held by this run
	Notes   []string
}

// Changed is what came of it.
type Changed struct {
	Folder  string           `json:"folder"`
	Claimed []claiming.Claim `json:"claimed"`
	Ended   []claiming.Claim `json:"released"`
	Taken   []claiming.Claim `json:"taken" says:"claims of others that were replaced"`
	Rounds  int              `json:"rounds" says:"how often it was tried, while others changed the claims too"`
	Ref     string           `json:"ref" says:"where the claims are on the host"`
}

// open looks at a project's claims, as the host has them now.
func open(ctx context.Context, d *desk.Desk, given string) (*Change, error) {
	f, p, err := project.MainFor(ctx, d, given)
	if err != nil {
		return nil, err
	}
	if _, err := f.Work(); err != nil {
		return nil, err
	}
	h, err := project.TieOf(ctx, d, f, p)
	if err != nil {
		return nil, err
	}
	c := &Change{tie: h, given: given}
	return c, c.look(ctx, d, f)
}

// look asks the host.
func (c *Change) look(ctx context.Context, d *desk.Desk, f *project.Folder) (err error) {
	if c.refs, err = project.Refs(ctx, d, c.tie, ""); err != nil {
		return err
	}
	if c.Book, err = seen(ctx, d, f, c.tie, c.refs, c.held); err != nil {
		return err
	}
	if c.Me, c.name, err = me(d, f, c.tie); err != nil {
		return err
	}
	if c.clock(c.refs.Date); c.refs.Date.IsZero() {
		if now, told := login.HostTime(ctx, d, c.tie.Account); told {
			c.clock(now)
		}
	}
	return nil
}

// Create plans to claim paths.
func Create(ctx context.Context, d *desk.Desk, o Options) (*Change, error) {
	if len(o.Reason) > 1000 {
		return nil, fault.New(fault.Usage, "a reason has at most 1000 bytes")
	}
	c, err := open(ctx, d, o.Folder)
	if err != nil {
		return nil, err
	}
	for i, p := range o.Paths {
		if o.Paths[i], err = c.named(ctx, p); err != nil {
			return nil, err
		}
	}
	c.options = o
	now, _ := c.now()
	if c.until, err = untilOf(o.Until, now, d.Now()); err != nil {
		return nil, err
	}
	if o.Branch && (c.folder.Branch == "" || c.refs.Branch(c.folder.Branch) == "") {
		return nil, fault.New(fault.Decision, "the host does not have the branch %s, so the claim would end at once", text.Visible(c.folder.Branch)).Try("send it first", desk.FolderCommand(o.Folder, "sync"))
	}
	return c, c.others()
}

// named gives a path as it is claimed: one of a folder ends with a slash.
func (c *Change) named(ctx context.Context, given string) (string, error) {
	p := path.Clean(filepath.ToSlash(given))
	if strings.HasSuffix(given, "/") {
		p += "/"
	}
	if err := claiming.CheckPath(p); err != nil {
		return "", fault.New(fault.Usage, "%s cannot be claimed: %s", text.Quote(given), err.Error()).Try("see what differs", desk.FolderCommand(c.given, "changes"))
	}
	switch k := files.KindOf(filepath.Join(c.folder.Path, filepath.FromSlash(strings.TrimSuffix(p, "/")))); {
	case k == files.Folder && !strings.HasSuffix(p, "/"):
		p += "/"
	case k == files.None && !strings.ContainsAny(p, "*?["):
		note := text.Visible(p) + " is not there yet."
		if like, err := c.folder.Repo.Lines(ctx, "ls-files", "-z", "--", ":(glob)**/"+p); err == nil && len(like) > 0 {
			note += " Paths begin at the project's top; there is " + text.Visible(like[0]) + "."
		}
		c.Notes = append(c.Notes, note)
	}
	return p, nil
}

// untilOf reads when a claim ends: a time of this machine, or for how long.
func untilOf(s string, there, here time.Time) (time.Time, error) {
	long := usually
	var n int
	var unit string
	if count, err := fmt.Sscanf(s, "%d%s", &n, &unit); count == 2 && err == nil && n > 0 && n <= 10_000 {
		for u, d := range map[string]time.Duration{"m": time.Minute, "h": time.Hour, "d": 24 * time.Hour, "w": 7 * 24 * time.Hour} {
			if unit == u {
				return there.Add(time.Duration(n) * d).Truncate(time.Second), nil
			}
		}
	}
	if s == "" {
		return there.Add(long).Truncate(time.Second), nil
	}
	for _, form := range []string{"2006-01-02 15:04", "2006-01-02T15:04", time.RFC3339, "2006-01-02"} {
		at, err := time.ParseInLocation(form, s, time.Local)
		if err != nil {
			continue
		}
		if form == time.DateOnly {
			at = at.Add(24*time.Hour - time.Second) // to the end of that day
		}
		if !at.After(here) {
			return at, fault.New(fault.Usage, "%s is over", text.Quote(s)).Try("", `uncinate claim create PATH --until 3d`)
		}
		return at.UTC(), nil
	}
	return time.Time{}, fault.New(fault.Usage, "%s is neither a time nor for how long: 30m, 8h, 3d, 2w, 2026-05-01 or \"2026-05-01 17:00\"", text.Quote(s)).Try("", `uncinate claim create PATH --until 3d`)
}

// others finds who has claimed the same; what is not to be taken is a fault.
func (c *Change) others() error {
	c.Taken = nil
	var held []claiming.Claim
	for _, x := range c.active() {
		if x.Key == c.Me || !slices.ContainsFunc(c.options.Paths, func(p string) bool { return claiming.Overlap(p, x.Path) }) {
			continue
		}
		if from := c.options.From; from != "" && (strings.EqualFold(from, x.Key) || strings.EqualFold(from, x.By)) {
			c.Taken = append(c.Taken, x)
		} else {
			held = append(held, x)
		}
	}
	if len(held) > 0 {
		f := fault.New(fault.Decision, "%s claimed %s already", text.Visible(held[0].By), text.Visible(held[0].Path))
		var lines []string
		for _, x := range held {
			lines = append(lines, Says(x))
		}
		desk.FirstOf(f, lines)
		words := append([]string{"claim", "create"}, c.options.Paths...)
		return f.Detail("Nothing was claimed.").TryWithout("once you both agreed, take it", desk.FolderCommand(c.given, append(words, "--from", held[0].Key)...), "from")
	}
	if c.options.From != "" && len(c.Taken) == 0 {
		return fault.New(fault.Usage, "%s has claimed nothing of that", text.Visible(c.options.From)).TryWithout("claim it", desk.FolderCommand(c.given, append([]string{"claim", "create"}, c.options.Paths...)...), "from")
	}
	return nil
}

// Says tells of a claim in a line.
func Says(x claiming.Claim) string {
	line := fmt.Sprintf("%s: %s since %s, until %s", text.Visible(x.Path), text.Visible(x.By), x.Since.Local().Format("2006-01-02 15:04"), x.Until.Local().Format("2006-01-02 15:04"))
	if x.Branch != "" {
		line += ", or until branch " + text.Visible(x.Branch) + " is gone from the host"
	}
	if x.Reason != "" {
		line += ": " + text.Excerpt(x.Reason, 120)
	}
	return line
}

// Release plans to release the person's own claims; without paths, all of them.
func Release(ctx context.Context, d *desk.Desk, given string, paths []string) (*Change, error) {
	c, err := open(ctx, d, given)
	if err != nil {
		return nil, err
	}
	c.release = true
	for _, x := range c.active() {
		if x.Key == c.Me && len(paths) == 0 {
			c.Ends = append(c.Ends, x)
		}
	}
	for _, p := range paths {
		clean, found := path.Clean(filepath.ToSlash(p)), false
		for _, x := range c.active() {
			if strings.TrimSuffix(x.Path, "/") != clean && x.Path != p {
				continue
			}
			if found = true; x.Key != c.Me {
				return nil, fault.New(fault.Decision, "%s is claimed by %s, not by you", text.Visible(x.Path), text.Visible(x.By)).Detail("%s", Says(x)).
					Try("once you both agreed, take it", desk.FolderCommand(given, "claim", "create", x.Path, "--from", x.Key))
			}
			c.Ends = append(c.Ends, x)
		}
		if !found {
			return nil, fault.New(fault.Failed, "nobody has claimed %s just so", text.Visible(p)).Try("see the claims", desk.FolderCommand(given, "claim", "list"))
		}
	}
	return c, nil
}

// Items is the plan as it is shown.
func (c *Change) Items() []plan.Item {
	var out []plan.Item
	say := func(id, words string, args ...any) {
		out = append(out, plan.Item{ID: id, Place: plan.Host, Sentence: fmt.Sprintf(words, args...)})
	}
	for _, x := range c.Taken {
		say("take "+x.ID, "Take the claim of %s", Says(x))
	}
	for _, x := range c.Ends {
		say("release "+x.ID, "Release %s", text.Visible(x.Path))
	}
	if !c.release {
		say("claim", "Claim %s until %s", strings.Join(desk.Visible(c.options.Paths), ", "), c.until.Local().Format("2006-01-02 15:04"))
	}
	return out
}

// Asks reports whether it takes something from somebody.
func (c *Change) Asks() bool { return len(c.Taken) > 0 }

// Release gives the plan up.
func (c *Change) Release() error { return nil }

// HostName is where it acts.
func (c *Change) HostName() string {
	if c.tie.Account != nil {
		return c.tie.Account.Host
	}
	return ""
}

// Do carries it out: it is tried again as long as others change the claims at the same time.
func (c *Change) Do(ctx context.Context) (_ *Changed, err error) {
	held, err := c.hold(ctx)
	if err != nil {
		return nil, err
	}
	defer fault.Also(&err, held.Release)
	c.held = true
	out := &Changed{Folder: c.folder.Path, Claimed: []claiming.Claim{}, Ended: append([]claiming.Claim{}, c.Ends...), Taken: append([]claiming.Claim{}, c.Taken...)}
	if len(c.Ends) == 0 && c.release {
		return out, nil
	}
	id := make([]byte, 8*max(1, len(c.options.Paths)))
	if _, err := rand.Read(id); err != nil {
		return nil, err
	}
	for out.Rounds = 1; ; out.Rounds++ {
		if !c.release {
			if err := c.others(); err != nil { // another one may have been quicker
				return nil, err
			}
			out.Taken = append([]claiming.Claim{}, c.Taken...)
		}
		all := c.changed(id, out)
		stays, err := c.round(ctx, all, out)
		if err != nil || stays {
			return out, err
		}
		if out.Rounds == mostRounds {
			return nil, fault.New(fault.Unreachable, "others change the claims all the time; yours is not among them after %d tries", out.Rounds).Try("try it again", Line(c.given, c.options.Paths))
		}
		if err := c.desk.Pause(ctx, time.Duration(10+mathrand.IntN(60*min(out.Rounds, 6)))*time.Millisecond); err != nil {
			return nil, err
		}
		if err := c.look(ctx, c.desk, c.folder); err != nil {
			return nil, err
		}
	}
}

// changed gives all claims as they are to be.
func (c *Change) changed(ids []byte, out *Changed) []claiming.Claim {
	ends := func(x claiming.Claim) bool {
		same := func(y claiming.Claim) bool { return y.ID == x.ID }
		again := x.Key == c.Me && slices.Contains(c.options.Paths, x.Path)
		return slices.ContainsFunc(c.Ends, same) || slices.ContainsFunc(c.Taken, same) || again || c.over(x)
	}
	all := slices.DeleteFunc(slices.Clone(c.Claims), ends)
	out.Claimed = []claiming.Claim{}
	if c.release {
		return all
	}
	now, _ := c.now()
	machine, err := c.desk.Machine()
	if err != nil {
		machine = ""
	}
	for i, p := range c.options.Paths {
		x := claiming.Claim{ID: hex.EncodeToString(ids[8*i : 8*i+8]), Path: p, By: c.name, Key: c.Me, Machine: machine, Since: now.Truncate(time.Second), Until: c.until, Reason: c.options.Reason}
		if c.options.Branch {
			x.Branch = c.folder.Branch
		}
		if len(c.Taken) > 0 {
			x.Taken = &claiming.Taken{Key: c.Taken[0].Key, By: c.Taken[0].By}
			for _, t := range c.Taken {
				x.Taken.Paths = append(x.Taken.Paths, t.Path)
			}
		}
		all, out.Claimed = append(all, x), append(out.Claimed, x)
	}
	return all
}

// round sends claims, and looks whether they stay: false where others were quicker.
func (c *Change) round(ctx context.Context, all []claiming.Claim, out *Changed) (bool, error) {
	says := fmt.Sprintf("%s claims %s", c.name, text.Excerpt(strings.Join(c.options.Paths, ", "), 200))
	if c.release {
		says = fmt.Sprintf("%s releases %s", c.name, text.Count(len(c.Ends), "claim"))
	}
	was, places := c.refs.IDs[c.Ref], []string{c.Ref}
	if c.Ref == "" || c.Gone || was == "" {
		c.Commit, was, places = "", "", []string{Ref, Branch}
		if c.Gone { // a ref that it dropped once it may drop again
			places = []string{Branch}
		}
	}
	commit, err := c.commit(ctx, all, c.name, says)
	if err != nil {
		return false, err
	}
	var refused error
	for _, ref := range places {
		refused = c.send(ctx, c.tie, ref, commit, was)
		if ctx.Err() != nil {
			return false, ctx.Err()
		}
		now, err := project.Refs(ctx, c.desk, c.tie, "")
		if err != nil {
			return false, err
		}
		there := now.IDs[ref]
		switch {
		case there == commit:
			c.Ref, c.Commit, c.Claims, c.Gone, out.Ref = ref, commit, all, false, ref
			return true, c.write()
		case there == "": // it is hidden, or was dropped
		case there != was: // others were quicker, or built upon it already
			c.refs = now
			if err := c.receive(ctx, c.tie, ref, there); err != nil {
				return false, err
			}
			out.Ref = ref
			return c.holds(out), c.write()
		}
	}
	return false, c.cannot(ctx, refused)
}

// holds reports whether the claims that were read hold what was to be changed.
func (c *Change) holds(out *Changed) bool {
	has := func(x claiming.Claim) bool {
		return slices.ContainsFunc(c.Claims, func(y claiming.Claim) bool { return x.ID == y.ID })
	}
	if c.release {
		return !slices.ContainsFunc(c.Ends, has)
	}
	return !slices.ContainsFunc(out.Claimed, func(x claiming.Claim) bool { return !has(x) })
}

// cannot says why a host takes no claims.
func (c *Change) cannot(ctx context.Context, refused error) error {
	if why := project.ReadOnly(ctx, c.desk, c.tie); why != nil {
		f := *fault.Of(why)
		f.Says = "to claim, one must be able to write: " + f.Says
		return &f
	}
	f := fault.New(fault.HostSaidNo, "%s takes no claims: neither in %s nor in a branch", c.tie.Address.String(), Ref).Because(refused)
	var said *git.Error
	if errors.As(refused, &said) {
		f.Detail("git says: %s", text.Excerpt(desk.FirstLine(said.Says), 200))
	}
	return f.Detail("Tell the others by another way what you work on; what they changed is told by status all the same.").Try("see what others changed", desk.FolderCommand(c.given, "status"))
}
