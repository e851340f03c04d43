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
	"uncinate/internal/core/description"
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
	Desk    *desk.Desk
	held    *files.Held // the folder's lock
	Options Options
	folder  *project.Folder
	travel  *surveying.Travel // nil when there are commits already
	run     *desk.Runner
	Login   *login.Login // nil for an address that no description covers
	Hook    *project.Hook
	Target  description.Repository // what is hooked to, or what is to be made
	Create  bool
	vacant  bool   // what is hooked to was made before, and holds nothing yet
	clones  bool   // it is a clone's, which may do without an account
	move    string // a secret that stood in an address, to be moved into the vault
	moveFor accounts.Account
	branch  string
	name    string // who signs commits
	email   string
	project project.Project // the register's entry, if there is one
	join    *join           // nil where the host holds nothing that is not here
	let     []surveying.Let // what the person lets through now
	former  string          // what the old remote is called from then on; "" where nothing moves
	large   *largeFiles     // nil where no large-file storage is used
	first   []firstFile     // written before the first commit
	there   []string        // commits that the host holds and that are here too
	steps   []desk.Step

	went   bool     // commits were sent now
	others []string // other accounts that can see what this one cannot

	Resumed bool     // unfinished work was found and goes on
	Notes   []string // what the person should know before agreeing
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
	a := &Attach{Desk: d, Options: o}
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
	if err := a.planFirstFiles(); err != nil {
		return err
	}
	if a.former != "" {
		if err := a.checkMove(); err != nil {
			return err
		}
	}
	if err := a.planLarge(ctx); err != nil {
		return err
	}
	if err := a.notePublic(ctx); err != nil {
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
	stands, err := a.standing(ctx)
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
func (a *Attach) chooseSigner(ctx context.Context) error {
	setting := func(scope, key string) string {
		value := ""
		for _, s := range a.folder.Settings {
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
		if out, err := a.folder.Repo.Do(ctx, "config", "--get", key); err == nil {
			return out
		}
		return ""
	}
	var of accounts.Account
	if a.Login != nil {
		of = *a.Login.Account
	}
	a.name = choose(a.Options.FullName, "user.name", of.FullName)
	a.email = choose(a.Options.Email, "user.email", of.Email)
	if a.name == "" || a.email == "" {
		return fault.New(fault.Decision, "git does not know whose name and e-mail the commits are to carry").
			Try("say it for this project", a.Again("--full-name", "NAME", "--email", "ADDRESS"))
	}
	if strings.ContainsAny(a.name+a.email, "<>\n\x00") {
		return fault.New(fault.Usage, "a name or e-mail for commits cannot hold '<', '>' or a line end")
	}
	return nil
}

// checkAddress settles the address, and what in the person's own configuration
// would lead git astray on the way to it.
func (a *Attach) checkAddress(ctx context.Context) error {
	over, err := a.transport()
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
	a.Hook = &project.Hook{Desk: a.Desk, Repo: a.folder.Repo, Remote: a.Options.Remote, Address: at}
	user := ""
	if a.Login != nil {
		a.Hook.Account = a.Login.Account
	} else if a.move != "" {
		a.Hook.Account = &a.moveFor
	} else if a.Hook.Account, err = a.plainAccount(); err != nil {
		return err
	}
	if a.Hook.Account != nil {
		if a.Hook.Key, err = accounts.KeyOf(a.Desk, a.Hook.Account.Name, accounts.KeyInForce); err != nil {
			return err
		}
		if err := a.checkKey(ctx); err != nil {
			return err
		}
		if user, _, err = login.GitLogin(ctx, a.Desk, a.Hook.Account, ""); err != nil {
			return err
		}
		if err := project.CheckNetrc(a.Desk, at, user); err != nil {
			return err
		}
	}
	settings := a.folder.Settings
	if !a.folder.IsRepo {
		if settings, err = a.folder.Repo.Settings(ctx); err != nil {
			return desk.GitFault(err, "git's configuration cannot be read")
		}
	}
	if s := project.Rewrites(settings, at); s != nil && s.Scope != "local" {
		a.Hook.Rewrite = a.Login != nil
		if a.Hook.Rewrite {
			a.Notes = append(a.Notes, "Your git configuration turns this address into another ("+text.Visible(s.Key)+" in "+text.Visible(s.Origin)+"); for this project it is kept as it is.")
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
		return a.planJoin(ctx, refs)
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
	return a.planJoin(ctx, refs)
}

// remoteRefs asks the hosted repository for its branches: over HTTP by ourselves
// with the account's secret, otherwise through git with the sign-in it has.
func (a *Attach) remoteRefs(ctx context.Context) (web.Refs, error) {
	if a.move != "" && a.Login == nil {
		return a.Desk.Web.Refs(ctx, a.Hook.Address, a.moveFor.User, a.move)
	}
	token := ""
	if a.Login != nil {
		token = a.Login.Token
	}
	return project.Refs(ctx, a.Desk, a.Hook, token)
}

// HostName is the known host that is hooked to, "" for an address that no
// description covers.
func (a *Attach) HostName() string {
	if a.Login == nil {
		return ""
	}
	return a.Login.Host.Name
}

// Again is an attach of the same folder with other options, as a command to paste.
func (a *Attach) Again(options ...string) string {
	words := append([]string{"uncinate", "attach"}, options...)
	if given := a.Options.Folder; given != "." && given != "" {
		words = append(words, given)
	}
	return text.Command(words...)
}

// Headline says in a few words what the plan is for.
func (a *Attach) Headline() string {
	what := a.Hook.Address.String()
	if a.Login != nil {
		what = a.Target.Path() + " on " + a.Login.Host.Name
	}
	verb := "a new repository, "
	if !a.Create {
		verb = ""
	}
	return "To hook " + text.Visible(filepath.Base(a.folder.Path)) + " to " + verb + what + ":"
}

// lets are what the person lets through now; each needs a reason.
func (a *Attach) lets() ([]surveying.Let, error) {
	var let []surveying.Let
	for _, p := range a.Options.Let {
		let = append(let, surveying.Let{Path: p, Reason: a.Options.Reason, Since: a.Desk.Now().UTC().Truncate(time.Second)})
	}
	if len(let) > 0 && strings.TrimSpace(a.Options.Reason) == "" {
		return nil, fault.New(fault.Usage, "a file that is let up needs a reason, to be read later").
			Try("", a.Again("--let", a.Options.Let[0], "--reason", "TEXT"))
	}
	return let, nil
}
