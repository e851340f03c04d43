package job

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
	"uncinate/internal/world/files"
	"uncinate/internal/world/web"
)

// AttachOptions are a person's wishes. Empty ones are proposed.
type AttachOptions struct {
	Folder      string
	To          string // a repository made on the host before: its name or any of its addresses
	Name        string // of the repository to be made; may be owner/name
	Owner       string
	Account     string
	Host        string
	Visibility  string
	Description string
	Remote      string
	Message     string   // of the first commit
	FullName    string   // who signs commits, where the account does not say
	Email       string   //
	Over        string   // "https" or "ssh"
	Branches    bool     // publish all local branches
	Let         []string // files, folders or patterns that go up although the survey would stop them
	Reason      string   // why
	Move        bool     // from where the project is hooked to now, with all branches and tags
	Copy        bool     // a second place, which only receives
	Large       []string // paths or patterns of files that go into large-file storage
	Readme      bool     // write a readme where there is none
	Licence     string   // write this licence where there is none, by its SPDX identifier
	Branch      string   // what the branch is called in a folder without repository; main unless said
	Clash       string   // how files that both sides hold are decided: "mine", "theirs" or "both"
	Only        []string // what goes into the first commit: paths, folders or patterns; all unless said
	Except      []string // what of it does not
	Preview     bool     // only the plan is wanted, so nobody is kept out meanwhile
}

// Attach is the main job on one folder: looked at and planned, to be shown, then done.
type Attach struct {
	desk    *Desk
	held    *files.Held // the folder's lock
	options AttachOptions
	folder  *folder
	travel  *travel // nil when there are commits already
	run     *runner
	login   *login // nil for an address that no description covers
	hook    *hook
	target  description.Repository // what is hooked to, or what is to be made
	create  bool
	vacant  bool   // what is hooked to was made before, and holds nothing yet
	clones  bool   // it is a clone's, which may do without an account
	move    string // a secret that stood in an address, to be moved into the vault
	moveFor Account
	branch  string
	name    string // who signs commits
	email   string
	project Project     // the register's entry, if there is one
	join    *join       // nil where the host holds nothing that is not here
	let     []Let       // what the person lets through now
	former  string      // what the old remote is called from then on; "" where nothing moves
	large   *largeFiles // nil where no large-file storage is used
	first   []firstFile // written before the first commit
	there   []string    // commits that the host holds and that are here too
	steps   []Step

	went   bool     // commits were sent now
	others []string // other accounts that can see what this one cannot

	Resumed bool     // unfinished work was found and goes on
	Notes   []string // what the person should know before agreeing
}

// Attached is what came of it.
type Attached struct {
	Folder        string   `json:"folder"`
	Page          string   `json:"page,omitempty"`
	Address       string   `json:"address"`
	Account       string   `json:"account,omitempty"`
	Visibility    string   `json:"visibility,omitempty"`
	Branch        string   `json:"branch"`
	Commit        string   `json:"commit,omitempty"` // empty: nothing to send yet
	Files         int      `json:"files"`            // in the commit
	Bytes         int64    `json:"bytes"`            //
	Stays         []Stay   `json:"stays,omitempty"`
	Nested        []string `json:"nested,omitempty"` // folders with a repository of their own
	OtherBranches []string `json:"other_branches,omitempty"`
	Verified      bool     `json:"verified"`
	Changed       bool     `json:"changed"` // false: all was done before
	Sent          bool     `json:"sent" says:"commits were sent now"`
	Large         int      `json:"large,omitempty" says:"files in large-file storage"`
	Joined        *Joined  `json:"joined,omitempty" says:"how the folder and the work that was there became one"`
}

// Attach looks at the folder, git and the host, and makes the plan.
func (d *Desk) Attach(ctx context.Context, o AttachOptions) (*Attach, error) {
	where, err := d.findFolder(o.Folder)
	if err != nil {
		return nil, err
	}
	if o.Clash != "" && !joining.Valid(o.Clash) {
		return nil, fault.New(fault.Usage, "clashing files are decided by mine, theirs or both, not by %s", text.Quote(o.Clash))
	}
	if o.To, err = d.addressOfCopy(ctx, o.To); err != nil {
		return nil, err
	}
	a := &Attach{desk: d, options: o}
	if !o.Preview {
		if err := d.notAProject(where); err != nil {
			return nil, err
		}
		if a.held, err = d.alone(ctx, where); err != nil {
			return nil, err
		}
	}
	failed := func(err error) (*Attach, error) { return nil, errors.Join(err, a.Close(), a.held.Release()) }
	for _, c := range a.checks(where) {
		if err := c.run(ctx); err != nil {
			return failed(err)
		}
	}
	if a.create && a.byPush() && a.folder.head == "" && len(a.travel.up) == 0 && !o.Readme && o.Licence == "" {
		return failed(a.nothingToPush())
	}
	if err := a.prepare(ctx); err != nil {
		return failed(err)
	}
	return a, nil
}

// addressOfCopy lets a copy that was cloned elsewhere name the repository it came from: a
// path that begins with a dot or a slash is one.
func (d *Desk) addressOfCopy(ctx context.Context, to string) (string, error) {
	if !strings.HasPrefix(to, "./") && !strings.HasPrefix(to, "../") && !filepath.IsAbs(to) {
		return to, nil
	}
	where, g, err := d.findWithGit(ctx, to)
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
	what  string
	after []string
	run   func(ctx context.Context) error
}

// checks are the looks in their order; attach stops at the first that fails, and
// ready tells of all.
func (a *Attach) checks(where string) []check {
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
	err := a.desk.notAProject(where)
	if err != nil {
		return err
	}
	if a.folder, err = a.desk.look(ctx, where); err != nil {
		return err
	}
	if err := a.ownGit(ctx); err != nil {
		return err
	}
	if err := a.followMove(); err != nil {
		return err
	}
	if a.run, a.Resumed, err = a.desk.begin("attach", a.folder.path); err != nil {
		return err
	}
	a.options = a.recall(a.options)
	if a.let, err = a.lets(); err != nil {
		return err
	}
	a.project, _, err = a.desk.entryOf(a.folder.path, a.options.Remote)
	if o := a.options; err == nil && o.Copy && o.Remote == "origin" {
		return fault.New(fault.Usage, "a copy needs a name of its own beside origin").Try("", a.again("--copy", "--remote", "copy"))
	}
	return err
}

// ownGit refuses a folder whose repository lies elsewhere: a linked work tree, or a
// submodule (gitrepository-layout documentation).
func (a *Attach) ownGit(ctx context.Context) error {
	if !a.folder.isRepo {
		return nil
	}
	if s, err := os.Lstat(filepath.Join(a.folder.path, ".git")); err != nil || s.IsDir() {
		return err
	}
	common, err := a.folder.repo.Do(ctx, "rev-parse", "--path-format=absolute", "--git-common-dir")
	if err != nil {
		return gitFault(err, "git cannot work with the repository in %s", text.Visible(a.folder.path))
	}
	if filepath.Base(common) == ".git" {
		return fault.New(fault.Decision, "%s is a linked work tree of another folder's repository; the hook belongs there, and holds for both", text.Visible(a.folder.path)).
			Try("hook that one", text.Command("uncinate", "attach", filepath.Dir(common)))
	}
	return fault.New(fault.Decision, "%s is a part (a submodule) of another project, and its repository lies in %s", text.Visible(a.folder.path), text.Visible(common)).
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
	if a.folder.head != "" {
		return nil
	}
	var limits survey.Limits
	if a.login != nil {
		limits = limitsOf(a.login.Host)
	}
	choice := survey.Choice{Only: a.options.Only, Except: a.options.Except}
	for tries := 0; ; tries++ {
		if a.travel, err = a.desk.travels(ctx, a.folder, choice, limits, a.let); err != nil {
			return err
		}
		if a.options.Preview || tries == mostWaits || !onlyChanging(a.travel.findings) {
			break
		}
		if tries == 0 {
			a.desk.Tell.Note("Note: files here are being written; waiting for the program that writes them.")
		}
		if err := a.desk.sleep(ctx, time.Second); err != nil {
			return err
		}
	}
	if stored := survey.Hits(a.options.Large); len(a.options.Large) > 0 {
		a.travel.findings = slices.DeleteFunc(a.travel.findings, func(x survey.Finding) bool { return x.About == "large" && x.Path != "" && stored(x.Path) })
	}
	if err := checkFindings(a.travel.findings, a.options.Folder, a.again); err != nil {
		return err
	}
	for _, x := range a.travel.findings {
		if x.Weight == survey.Look && x.About != "made" {
			a.Notes = append(a.Notes, Sentence(x)+".")
		}
	}
	if more := len(a.Notes) - 6; more > 0 {
		a.Notes = append(a.Notes[:6], fmt.Sprintf("There are %d more things to look at: %s", more, surveyCommand(a.options.Folder)))
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
	if !a.options.Preview {
		if err := a.desk.keepLet(a.folder.path, a.let); err != nil {
			return err
		}
	}
	a.steps = a.plan()
	if a.Resumed {
		return nil
	}
	stands, err := a.standing(ctx)
	a.run.state.Head.Wanted["standing"] = files.Short(stands)
	return err
}

// followMove finds the journal of an attach that was cut off in this very project when
// it lay elsewhere: the old folder is gone, and the commit that it made is this one.
func (a *Attach) followMove() error {
	if a.folder.head == "" || a.held == nil {
		return nil
	}
	orphans, err := a.desk.Home.Orphans("attach")
	if err != nil {
		return err
	}
	for _, o := range orphans {
		if o.State.Facts["commit"] == a.folder.head {
			return a.desk.Home.Adopt(o, a.folder.path)
		}
	}
	return nil
}

// recall puts the choices of an interrupted run in where this run makes none.
func (a *Attach) recall(o AttachOptions) AttachOptions {
	w := a.run.state.Head.Wanted
	if a.Resumed {
		for key, field := range o.kept() {
			if *field == "" {
				*field = w[key]
			}
		}
	}
	if a.Resumed && o.To == "" {
		o.To = w["to"]
	}
	for key, wish := range map[string]*bool{"readme": &o.Readme, "move": &o.Move, "copy": &o.Copy} {
		*wish = *wish || a.Resumed && w[key] == "yes"
		if *wish {
			w[key] = "yes"
		}
	}
	for key, field := range o.keptLists() {
		if a.Resumed && len(*field) == 0 && w[key] != "" {
			*field = strings.Split(w[key], "\n")
		}
		if len(*field) > 0 {
			w[key] = strings.Join(*field, "\n")
		}
	}
	if o.To != "" {
		w["to"] = withoutSecret(o.To)
	}
	if o.Remote == "" {
		o.Remote = "origin"
	}
	if o.Message == "" {
		o.Message = "First commit"
	}
	for key, field := range o.kept() {
		if *field != "" {
			w[key] = *field
		}
	}
	return o
}

// kept names the choices that the journal remembers. An address is kept without
// what secret may stand in it.
func (o *AttachOptions) kept() map[string]*string {
	return map[string]*string{"name": &o.Name, "owner": &o.Owner, "account": &o.Account, "host": &o.Host, "visibility": &o.Visibility,
		"description": &o.Description, "over": &o.Over, "remote": &o.Remote, "message": &o.Message, "full-name": &o.FullName, "email": &o.Email, "reason": &o.Reason, "clash": &o.Clash, "licence": &o.Licence, "branch": &o.Branch}
}

func (o *AttachOptions) keptLists() map[string]*[]string {
	return map[string]*[]string{"only": &o.Only, "except": &o.Except, "let": &o.Let, "large": &o.Large}
}

// Items is the plan as it is shown.
func (a *Attach) Items() []plan.Item { return Items(a.steps) }

// chooseSigner decides whose name and e-mail the commits carry: what was asked for,
// else what stands in this repository, else the account's, else git's own.
func (a *Attach) chooseSigner(ctx context.Context) error {
	setting := func(scope, key string) string {
		value := ""
		for _, s := range a.folder.settings {
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
		if out, err := a.folder.repo.Do(ctx, "config", "--get", key); err == nil {
			return out
		}
		return ""
	}
	var of Account
	if a.login != nil {
		of = *a.login.Account
	}
	a.name = choose(a.options.FullName, "user.name", of.FullName)
	a.email = choose(a.options.Email, "user.email", of.Email)
	if a.name == "" || a.email == "" {
		return fault.New(fault.Decision, "git does not know whose name and e-mail the commits are to carry").
			Try("say it for this project", a.again("--full-name", "NAME", "--email", "ADDRESS"))
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
	a.hook = &hook{desk: a.desk, repo: a.folder.repo, remote: a.options.Remote, address: at}
	user := ""
	if a.login != nil {
		a.hook.account = a.login.Account
	} else if a.move != "" {
		a.hook.account = &a.moveFor
	} else if a.hook.account, err = a.plainAccount(); err != nil {
		return err
	}
	if a.hook.account != nil {
		if a.hook.key, err = a.desk.keyOf(a.hook.account.Name, keyInForce); err != nil {
			return err
		}
		if err := a.checkKey(ctx); err != nil {
			return err
		}
		if user, _, err = a.desk.gitLogin(ctx, a.hook.account, ""); err != nil {
			return err
		}
		if err := a.desk.checkNetrc(at, user); err != nil {
			return err
		}
	}
	settings := a.folder.settings
	if !a.folder.isRepo {
		if settings, err = a.folder.repo.Settings(ctx); err != nil {
			return gitFault(err, "git's configuration cannot be read")
		}
	}
	if s := rewrites(settings, at); s != nil && s.Scope != "local" {
		a.hook.rewrite = a.login != nil
		if a.hook.rewrite {
			a.Notes = append(a.Notes, "Your git configuration turns this address into another ("+text.Visible(s.Key)+" in "+text.Visible(s.Origin)+"); for this project it is kept as it is.")
		}
	}
	return nil
}

// checkHistory makes sure that what the hosted repository holds is nothing, or a
// part of what is here.
func (a *Attach) checkHistory(ctx context.Context) error {
	a.branch = a.folder.branch
	if a.create {
		return nil
	}
	refs, err := a.remoteRefs(ctx)
	if err != nil {
		return err
	}
	a.branch = a.folder.branch
	if refs.Empty() {
		a.vacant = true
		return nil
	}
	for i, b := range refs.Branches() {
		if a.folder.head == "" || i == 100 { // the others are only not left out of what is looked into
			break
		}
		if _, err := a.folder.repo.Do(ctx, "cat-file", "-e", refs.Branch(b)+"^{commit}"); err == nil {
			a.there = append(a.there, refs.Branch(b))
		}
	}
	if a.run.fact("join") != "" {
		return a.planJoin(ctx, refs)
	}
	tip := refs.Branch(a.branch)
	if a.folder.head != "" {
		for _, id := range []string{tip, refs.IDs["HEAD"]} {
			if id == "" {
				continue
			}
			if _, err := a.folder.repo.Do(ctx, "merge-base", "--is-ancestor", id, a.folder.head); err == nil {
				return nil
			}
		}
	}
	return a.planJoin(ctx, refs)
}

// remoteRefs asks the hosted repository for its branches: over HTTP by ourselves
// with the account's secret, otherwise through git with the sign-in it has.
func (a *Attach) remoteRefs(ctx context.Context) (web.Refs, error) {
	if a.move != "" && a.login == nil {
		return a.desk.Web.Refs(ctx, a.hook.address, a.moveFor.User, a.move)
	}
	token := ""
	if a.login != nil {
		token = a.login.token
	}
	return a.desk.refs(ctx, a.hook, token)
}

// refs asks an address for its refs on behalf of an account.
func (d *Desk) refs(ctx context.Context, h *hook, token string) (web.Refs, error) {
	if h.account != nil && h.address.Scheme != "ssh" {
		if token == "" {
			var err error
			if token, err = d.token(ctx, h.account, true); err != nil {
				return web.Refs{}, err
			}
		}
		d.warn(h.account)
		refs, err := d.gitRefs(ctx, h.account, token, h.address)
		return refs, d.rightAccount(ctx, h, err)
	}
	if err := h.writeInclude(ctx); err != nil {
		return web.Refs{}, err
	}
	ids, head, err := h.repo.Refs(ctx, h.address.String(), h.config()...)
	if err != nil {
		if r := h.route(); r != nil {
			if why := d.sshCause(ctx, r, err); why != nil {
				return web.Refs{}, d.rightAccount(ctx, h, why)
			}
		}
		return web.Refs{}, d.diagnose(ctx, h.address, err)
	}
	return web.Refs{IDs: ids, Head: head}, nil
}

// diagnose finds the true cause of a failed talk of git with an address.
func (d *Desk) diagnose(ctx context.Context, at address.Address, err error) error {
	if ctx.Err() != nil || at.Scheme == "ssh" {
		return gitFault(err, "git cannot reach %s", at.String())
	}
	if _, probed := d.Web.Refs(ctx, at, "", ""); probed != nil {
		h, _, _, known := d.Recognise(at.String())
		if known == nil && h != nil && h.Actions["identify"] != nil && fault.Is(probed, fault.HostSaidNo) {
			f := *fault.Of(probed)
			f.Remedies = nil
			return f.Try("add your account there", text.Command("uncinate", "account", "add", "--host", h.Name))
		}
		return probed
	}
	return gitFault(err, "git cannot work with %s", at.String())
}

// HostName is the known host that is hooked to, "" for an address that no
// description covers.
func (a *Attach) HostName() string {
	if a.login == nil {
		return ""
	}
	return a.login.Host.Name
}

// again is an attach of the same folder with other options, as a command to paste.
func (a *Attach) again(options ...string) string {
	words := append([]string{"uncinate", "attach"}, options...)
	if given := a.options.Folder; given != "." && given != "" {
		words = append(words, given)
	}
	return text.Command(words...)
}

// Headline says in a few words what the plan is for.
func (a *Attach) Headline() string {
	what := a.hook.address.String()
	if a.login != nil {
		what = a.target.Path() + " on " + a.login.Host.Name
	}
	verb := "a new repository, "
	if !a.create {
		verb = ""
	}
	return "To hook " + text.Visible(filepath.Base(a.folder.path)) + " to " + verb + what + ":"
}
