package attach

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/job/surveying"
	"uncinate/internal/world/files"
	"uncinate/internal/world/web"
)

// Attach is the main job on one folder: looked at and planned, to be shown, then done.
type Attach struct {
	*Target
	held  *files.Held // the folder's lock
	joins *Join
	moves *Move
	own   *Contents
	let   []surveying.Let // what the person lets through now
	there []string        // commits that the host holds and that are here too
	steps []desk.Step
}

// Begin makes an attach of which nothing is known yet: its Checks find out.
func Begin(d *desk.Desk, o Options) *Attach {
	t := &Target{Work: Work{Desk: d, Options: o}}
	return &Attach{Target: t, joins: &Join{Target: t}, moves: &Move{Target: t}, own: &Contents{Target: t}}
}

// Attached is what came of it.
type Attached struct {
	Folder        string           `json:"folder"`
	Page          string           `json:"page,omitempty"`
	Address       string           `json:"address"`
	Account       string           `json:"account,omitempty"`
	Visibility    string           `json:"visibility,omitempty"`
	Branch        string           `json:"branch"`
	Commit        string           `json:"commit,omitempty"` // empty: nothing to send yet
	Files         int              `json:"files"`            // in the commit
	Bytes         int64            `json:"bytes"`            //
	Stays         []surveying.Stay `json:"stays,omitempty"`
	Nested        []string         `json:"nested,omitempty"` // folders with a repository of their own
	OtherBranches []string         `json:"other_branches,omitempty"`
	Verified      bool             `json:"verified"`
	Changed       bool             `json:"changed"` // false: all was done before
	Sent          bool             `json:"sent" says:"commits were sent now"`
	Large         int              `json:"large,omitempty" says:"files in large-file storage"`
	Joined        *Joined          `json:"joined,omitempty" says:"how the folder and the work that was there became one"`
}

// Plan looks at the folder, git and the host, and makes the plan.
func Plan(ctx context.Context, d *desk.Desk, o Options) (*Attach, error) {
	where, err := project.FindFolder(d, o.Folder)
	if err != nil {
		return nil, err
	}
	if o.Clash != "" && !joining.Valid(o.Clash) {
		return nil, fault.New(fault.Usage, "clashing files are decided by mine, theirs or both, not by %s", text.Quote(o.Clash))
	}
	if o.To, err = addressOfCopy(ctx, d, o.To); err != nil {
		return nil, err
	}
	a := Begin(d, o)
	if !o.Preview {
		if err := project.NotAProject(d, where); err != nil {
			return nil, err
		}
		if a.held, err = d.Alone(ctx, where); err != nil {
			return nil, err
		}
	}
	failed := func(err error) (*Attach, error) { return nil, errors.Join(err, a.Close(), a.held.Release()) }
	for _, c := range a.Checks(where) {
		if err := c.Run(ctx); err != nil {
			return failed(err)
		}
	}
	if a.Create && a.byPush() && a.folder.Head == "" && len(a.travel.Up) == 0 && !o.Readme && o.Licence == "" {
		return failed(a.nothingToPush())
	}
	if err := a.prepare(ctx); err != nil {
		return failed(err)
	}
	return a, nil
}

// Close takes away what was brought aside for the look.
func (a *Attach) Close() error { return a.joins.Close() }

// addressOfCopy lets a copy that was cloned elsewhere name the repository it came from: a
// path that begins with a dot or a slash is one.
func addressOfCopy(ctx context.Context, d *desk.Desk, to string) (string, error) {
	if !strings.HasPrefix(to, "./") && !strings.HasPrefix(to, "../") && !filepath.IsAbs(to) {
		return to, nil
	}
	where, g, err := project.FindWithGit(ctx, d, to)
	if err != nil {
		return "", err
	}
	at, err := g.In(where).Do(ctx, "config", "--local", "--get", "remote.origin.url")
	if err != nil {
		return "", fault.New(fault.Decision, "%s is no copy of a hosted repository: it has no remote origin", text.Visible(where))
	}
	return at, nil
}

// check is one look before the plan: what it is about, and which looks must have gone
// well before it.
type check struct {
	What  string
	After []string
	Run   func(ctx context.Context) error
}

// Checks are the looks in their order; attach stops at the first that fails, and
// ready tells of all.
func (a *Attach) Checks(where string) []check {
	return []check{
		{"folder", nil, func(ctx context.Context) error { return a.lookAt(ctx, where) }},
		{"repository", []string{"folder"}, a.chooseTarget},
		{"name and e-mail", []string{"folder", "repository"}, a.chooseSigner},
		{"files", []string{"folder"}, a.checkFiles},
		{"address", []string{"folder", "repository"}, a.checkAddress},
		{"history", []string{"folder", "repository", "files", "address"}, a.checkHistory},
		{"commits", []string{"folder", "repository", "address", "history"}, a.checkCommits},
	}
}

// lookAt looks at the folder, and at what an interrupted run left of its choices.
func (a *Attach) lookAt(ctx context.Context, where string) error {
	err := project.NotAProject(a.Desk, where)
	if err != nil {
		return err
	}
	if a.folder, err = project.Look(ctx, a.Desk, where); err != nil {
		return err
	}
	if err := a.ownGit(ctx); err != nil {
		return err
	}
	if err := a.followMove(); err != nil {
		return err
	}
	if a.run, a.Resumed, err = a.Desk.Begin("attach", a.folder.Path); err != nil {
		return err
	}
	a.Options = a.recall(a.Options)
	if a.let, err = a.lets(); err != nil {
		return err
	}
	a.project, _, err = project.EntryOf(a.Desk, a.folder.Path, a.Options.Remote)
	if o := a.Options; err == nil && o.Copy && o.Remote == "origin" {
		return fault.New(fault.Usage, "a copy needs a name of its own beside origin").Try("", a.Again("--copy", "--remote", "copy"))
	}
	return err
}

// ownGit refuses a folder whose repository lies elsewhere: a linked work tree, or a
// submodule (gitrepository-layout documentation).
func (a *Attach) ownGit(ctx context.Context) error {
	if !a.folder.IsRepo {
		return nil
	}
	if s, err := os.Lstat(filepath.Join(a.folder.Path, ".git")); err != nil || s.IsDir() {
		return err
	}
	common, err := a.folder.Repo.Do(ctx, "rev-parse", "--path-format=absolute", "--git-common-dir")
	if err != nil {
		return desk.GitFault(err, "git cannot work with the repository in %s", text.Visible(a.folder.Path))
	}
	if filepath.Base(common) == ".git" {
		return fault.New(fault.Decision, "%s is a linked work tree of another folder's repository; the hook belongs there, and holds for both", text.Visible(a.folder.Path)).
			Try("hook that one", text.Command("uncinate", "attach", filepath.Dir(common)))
	}
	return fault.New(fault.Decision, "%s is a part (a submodule) of another project, and its repository lies in %s", text.Visible(a.folder.Path), text.Visible(common)).
		Try("bring what it follows onto this machine by itself, and hook that", text.Command("uncinate", "clone", "ADDRESS"))
}

// mostWaits is how many seconds are waited for files that are being written.
const mostWaits = 5

// onlyChanging reports whether files that are being written are all that stops.
func onlyChanging(found []survey.Finding) bool {
	changing := false
	for _, x := range found {
		if x.Weight == survey.Stop && x.About != "changing" {
			return false
		}
		changing = changing || x.Weight == survey.Stop
	}
	return changing
}

// checkFiles decides what travels with a first commit, and refuses what must not.
func (a *Attach) checkFiles(ctx context.Context) (err error) {
	if a.folder.Head != "" {
		return nil
	}
	var limits survey.Limits
	if a.Login != nil {
		limits = hosts.LimitsOf(a.Login.Host)
	}
	choice := survey.Choice{Only: a.Options.Only, Except: a.Options.Except}
	for tries := 0; ; tries++ {
		if a.travel, err = surveying.Travels(ctx, a.Desk, a.folder, choice, limits, a.let); err != nil {
			return err
		}
		if a.Options.Preview || tries == mostWaits || !onlyChanging(a.travel.Findings) {
			break
		}
		if tries == 0 {
			a.Desk.Tell.Note("Note: files here are being written; waiting for the program that writes them.")
		}
		if err := a.Desk.Pause(ctx, time.Second); err != nil {
			return err
		}
	}
	if stored := survey.Hits(a.Options.Large); len(a.Options.Large) > 0 {
		a.travel.Findings = slices.DeleteFunc(a.travel.Findings, func(x survey.Finding) bool { return x.About == "large" && x.Path != "" && stored(x.Path) })
	}
	if err := surveying.CheckFindings(a.travel.Findings, a.Options.Folder, a.Again); err != nil {
		return err
	}
	for _, x := range a.travel.Findings {
		if x.Weight == survey.Look && x.About != "made" {
			a.Notes = append(a.Notes, surveying.Sentence(x)+".")
		}
	}
	if more := len(a.Notes) - 6; more > 0 {
		a.Notes = append(a.Notes[:6], fmt.Sprintf("There are %d more things to look at: %s", more, surveying.SurveyCommand(a.Options.Folder)))
	}
	return nil
}

// prepare makes the plan.
func (a *Attach) prepare(ctx context.Context) error {
	if err := a.own.planFirstFiles(); err != nil {
		return err
	}
	if a.former != "" {
		if err := a.checkMove(); err != nil {
			return err
		}
	}
	if err := a.own.planLarge(ctx, a.joins.way.holds); err != nil {
		return err
	}
	if err := a.own.notePublic(ctx); err != nil {
		return err
	}
	if !a.Options.Preview {
		if err := surveying.KeepLet(a.Desk, a.folder.Path, a.let); err != nil {
			return err
		}
	}
	a.steps = a.plan()
	if a.Resumed {
		return nil
	}
	stands, err := a.joins.standing(ctx)
	a.run.State.Head.Wanted["standing"] = files.Short(stands)
	return err
}

// followMove finds the journal of an attach that was cut off in this very project when
// it lay elsewhere: the old folder is gone, and the commit that it made is this one.
func (a *Attach) followMove() error {
	if a.folder.Head == "" || a.held == nil {
		return nil
	}
	orphans, err := a.Desk.Home.Orphans("attach")
	if err != nil {
		return err
	}
	for _, o := range orphans {
		if o.State.Facts["commit"] == a.folder.Head {
			return a.Desk.Home.Adopt(o, a.folder.Path)
		}
	}
	return nil
}

// Items is the plan as it is shown.
func (a *Attach) Items() []plan.Item { return desk.Items(a.steps) }

// chooseSigner decides whose name and e-mail the commits carry: what was asked for,
// else what stands in this repository, else the account's, else git's own.
func (t *Target) chooseSigner(ctx context.Context) error {
	setting := func(scope, key string) string {
		value := ""
		for _, s := range t.folder.Settings {
			if strings.EqualFold(s.Key, key) && (scope == "" || s.Scope == scope) {
				value = s.Value
			}
		}
		return value
	}
	choose := func(asked, key, account string) string {
		for _, s := range []string{asked, setting("local", key), account, setting("", key)} {
			if s != "" {
				return s
			}
		}
		if out, err := t.folder.Repo.Do(ctx, "config", "--get", key); err == nil {
			return out
		}
		return ""
	}
	var of accounts.Account
	if t.Login != nil {
		of = *t.Login.Account
	}
	t.name = choose(t.Options.FullName, "user.name", of.FullName)
	t.email = choose(t.Options.Email, "user.email", of.Email)
	if t.name == "" || t.email == "" {
		return fault.New(fault.Decision, "git does not know whose name and e-mail the commits are to carry").
			Try("say it for this project", t.Again("--full-name", "NAME", "--email", "ADDRESS"))
	}
	if strings.ContainsAny(t.name+t.email, "<>\n\x00") {
		return fault.New(fault.Usage, "a name or e-mail for commits cannot hold '<', '>' or a line end")
	}
	return nil
}

// checkAddress settles the address, and what in the person's own configuration
// would lead git astray on the way to it.
func (t *Target) checkAddress(ctx context.Context) error {
	over, err := t.transport()
	if err != nil {
		return err
	}
	at, err := address.Parse(over)
	if err != nil {
		return fault.New(fault.Unreachable, "the host names a clone address that cannot be used: %s", text.Excerpt(over, 80)).Because(err)
	}
	if at.Scheme == "http" && !address.Guarded("http", at.Host) {
		return fault.New(fault.Refused, "plain http to %s would send the token unencrypted", at.Host)
	}
	t.Hook = &project.Hook{Desk: t.Desk, Repo: t.folder.Repo, Remote: t.Options.Remote, Address: at}
	user := ""
	if t.Login != nil {
		t.Hook.Account = t.Login.Account
	} else if t.move != "" {
		t.Hook.Account = &t.moveFor
	} else if t.Hook.Account, err = t.plainAccount(); err != nil {
		return err
	}
	if t.Hook.Account != nil {
		if t.Hook.Key, err = accounts.KeyOf(t.Desk, t.Hook.Account.Name, accounts.KeyInForce); err != nil {
			return err
		}
		if err := t.checkKey(ctx); err != nil {
			return err
		}
		if user, _, err = login.GitLogin(ctx, t.Desk, t.Hook.Account, ""); err != nil {
			return err
		}
		if err := project.CheckNetrc(t.Desk, at, user); err != nil {
			return err
		}
	}
	settings := t.folder.Settings
	if !t.folder.IsRepo {
		if settings, err = t.folder.Repo.Settings(ctx); err != nil {
			return desk.GitFault(err, "git's configuration cannot be read")
		}
	}
	if s := project.Rewrites(settings, at); s != nil && s.Scope != "local" {
		t.Hook.Rewrite = t.Login != nil
		if t.Hook.Rewrite {
			t.Notes = append(t.Notes, "Your git configuration turns this address into another ("+text.Visible(s.Key)+" in "+text.Visible(s.Origin)+"); for this project it is kept as it is.")
		}
	}
	return nil
}

// checkHistory makes sure that what the hosted repository holds is nothing, or a
// part of what is here.
func (a *Attach) checkHistory(ctx context.Context) error {
	a.branch = a.folder.Branch
	if a.Create {
		return nil
	}
	refs, err := a.remoteRefs(ctx)
	if err != nil {
		return err
	}
	a.branch = a.folder.Branch
	if refs.Empty() {
		a.vacant = true
		return nil
	}
	for i, b := range refs.Branches() {
		if a.folder.Head == "" || i == 100 { // the others are only not left out of what is looked into
			break
		}
		if _, err := a.folder.Repo.Do(ctx, "cat-file", "-e", refs.Branch(b)+"^{commit}"); err == nil {
			a.there = append(a.there, refs.Branch(b))
		}
	}
	if a.run.Fact("join") != "" {
		return a.joins.planJoin(ctx, refs)
	}
	tip := refs.Branch(a.branch)
	if a.folder.Head != "" {
		for _, id := range []string{tip, refs.IDs["HEAD"]} {
			if id == "" {
				continue
			}
			if _, err := a.folder.Repo.Do(ctx, "merge-base", "--is-ancestor", id, a.folder.Head); err == nil {
				return nil
			}
		}
	}
	return a.joins.planJoin(ctx, refs)
}

// remoteRefs asks the hosted repository for its branches: over HTTP by ourselves
// with the account's secret, otherwise through git with the sign-in it has.
func (t *Target) remoteRefs(ctx context.Context) (web.Refs, error) {
	if t.move != "" && t.Login == nil {
		return t.Desk.Web.Refs(ctx, t.Hook.Address, t.moveFor.User, t.move)
	}
	token := ""
	if t.Login != nil {
		token = t.Login.Token
	}
	return project.Refs(ctx, t.Desk, t.Hook, token)
}

// HostName is the known host that is hooked to, "" for an address that no
// description covers.
func (t *Target) HostName() string {
	if t.Login == nil {
		return ""
	}
	return t.Login.Host.Name
}

// Again is an attach of the same folder with other options, as a command to paste.
func (w *Work) Again(options ...string) string {
	words := append([]string{"uncinate", "attach"}, options...)
	if given := w.Options.Folder; given != "." && given != "" {
		words = append(words, given)
	}
	return text.Command(words...)
}

// Headline says in a few words what the plan is for.
func (t *Target) Headline() string {
	what := t.Hook.Address.String()
	if t.Login != nil {
		what = t.Repository.Path() + " on " + t.Login.Host.Name
	}
	verb := "a new repository, "
	if !t.Create {
		verb = ""
	}
	return "To hook " + text.Visible(filepath.Base(t.folder.Path)) + " to " + verb + what + ":"
}

// lets are what the person lets through now; each needs a reason.
func (w *Work) lets() ([]surveying.Let, error) {
	var let []surveying.Let
	for _, p := range w.Options.Let {
		let = append(let, surveying.Let{Path: p, Reason: w.Options.Reason, Since: w.Desk.Now().UTC().Truncate(time.Second)})
	}
	if len(let) > 0 && strings.TrimSpace(w.Options.Reason) == "" {
		return nil, fault.New(fault.Usage, "a file that is let up needs a reason, to be read later").
			Try("", w.Again("--let", w.Options.Let[0], "--reason", "TEXT"))
	}
	return let, nil
}
