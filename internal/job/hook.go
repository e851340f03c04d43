package job

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/netrc"
)

// Project is one entry of the register: a folder that is hooked to a repository.
type Project struct {
	Folder  string    `json:"folder"` // absolute, symbolic links resolved
	Remote  string    `json:"remote"` // git's name for it, such as "origin"
	Address string    `json:"address"`
	Account string    `json:"account,omitempty"` // none: the sign-in that git has by itself
	Host    string    `json:"host,omitempty"`    // a known host, or none
	ID      string    `json:"id,omitempty"`      // the host's stable id
	Page    string    `json:"page,omitempty"`
	Hooked  time.Time `json:"hooked"`
	Copy    bool      `json:"copy,omitempty" says:"a second place, which only receives"`
	Follows bool      `json:"follows,omitempty" says:"only brought up to date: nothing is ever sent"`
}

func (d *Desk) registerFile() string { return filepath.Join(d.Home.State, "register.json") }

// Register lists the hooked projects. It is an index only: what counts stands in
// each repository's own configuration.
func (d *Desk) Register() ([]Project, error) {
	var all []Project
	_, err := files.ReadJSON(d.registerFile(), &all)
	return all, err
}

// alter changes the register, alone: several projects may be at work at once, in this
// process and in others.
func (d *Desk) alter(how func([]Project) []Project) error {
	s := d.common()
	s.mu.Lock()
	defer s.mu.Unlock()
	var held *files.Held
	for tries := 0; held == nil; tries++ {
		var err error
		if held, _, err = files.Lock(filepath.Join(d.Home.State, "locks", "register.lock")); err != nil {
			return err
		}
		if held == nil && tries > 500 {
			return fault.New(fault.Failed, "another uncinate holds the register of projects").Try("when it has ended, look", "uncinate status --all")
		}
		if held == nil {
			time.Sleep(10 * time.Millisecond)
		}
	}
	all, err := d.Register()
	if err == nil {
		if after := how(slices.Clone(all)); !slices.Equal(after, all) {
			err = files.WriteJSON(d.registerFile(), after)
		}
	}
	return errors.Join(err, held.Release())
}

func (d *Desk) enter(p Project) error {
	return d.alter(func(all []Project) []Project {
		return append(slices.DeleteFunc(all, func(q Project) bool { return q.Folder == p.Folder && q.Remote == p.Remote }), p)
	})
}

func (d *Desk) strike(folder, remote string) error {
	return d.alter(func(all []Project) []Project {
		return slices.DeleteFunc(all, func(q Project) bool { return q.Folder == folder && q.Remote == remote })
	})
}

// renameRemote tells the register that a project's remote is called otherwise.
func (d *Desk) renameRemote(folder, from, to string) error {
	return d.alter(func(all []Project) []Project {
		for i := range all {
			if all[i].Folder == folder && all[i].Remote == from {
				all[i].Remote = to
				break
			}
		}
		return all
	})
}

// ProjectAt finds the register's entry for a folder; false when it is not hooked. Of
// several it is the newest that is no copy.
func (d *Desk) ProjectAt(folder string) (Project, bool, error) {
	all, err := d.Register()
	if err != nil {
		return Project{}, false, err
	}
	for _, copies := range []bool{false, true} {
		for _, p := range slices.Backward(all) {
			if p.Folder == folder && p.Copy == copies {
				return p, true, nil
			}
		}
	}
	return Project{}, false, nil
}

// entryOf finds the register's entry for one remote of a folder.
func (d *Desk) entryOf(folder, remote string) (Project, bool, error) {
	all, err := d.Register()
	if err != nil {
		return Project{}, false, err
	}
	i := slices.IndexFunc(all, func(p Project) bool { return p.Folder == folder && p.Remote == remote })
	if i < 0 {
		return Project{}, false, nil
	}
	return all[i], true, nil
}

// hook is what ties a work tree to a hosted repository: the remote, the sign-in for
// exactly its address, and the account's name and e-mail.
type hook struct {
	desk    *Desk
	repo    *git.Repo
	remote  string
	address address.Address
	account *Account // nil: the sign-in that git has by itself
	key     *Key     // the account's on this machine; nil for none
	rewrite bool     // git's own rewriting of addresses is to be kept off this one
}

// includeFile is the file that git includes for this account and address: in one
// folder per account, so that a moved program is mended in one place.
func (h *hook) includeFile() string {
	name := "nobody"
	if h.account != nil {
		name = h.account.Name
	}
	return filepath.Join(h.desk.Home.State, "git", name, files.Short(h.address.Key())+".gitconfig")
}

// needed reports whether git has to be told anything for this address.
func (h *hook) needed() bool { return h.account != nil || h.rewrite }

// includeText is that file's contents. For the address with and without ".git" the
// helpers of the person's own configuration are put aside by an empty entry
// (gitcredentials documentation, "helper"), then ours is named. The path is part of
// what is asked, so that ours answers for this repository alone.
func (h *hook) includeText() string {
	var b strings.Builder
	b.WriteString(kinds.Opening + "\n")
	with, without := h.address, h.address
	with.Suffix, without.Suffix = true, false
	if h.account != nil && h.address.Scheme != "ssh" {
		words := []string{filepath.ToSlash(h.desk.Program), "credential", "--account", h.account.Name, "--for", h.address.Key()}
		if h.desk.Home.Top != "" {
			words = append(words, "--home", filepath.ToSlash(h.desk.Home.Top)) // git may be run where the variable is not set
		}
		helper := "!" + text.Command(words...)
		for _, a := range []address.Address{without, with} {
			fmt.Fprintf(&b, "[credential %s]\n\thelper =\n\thelper = %s\n\tuseHttpPath = true\n", quoted(a.String()), quoted(helper))
		}
	}
	if r := h.route(); r != nil {
		fmt.Fprintf(&b, "[core]\n\tsshCommand = %s\n[ssh]\n\tvariant = ssh\n", quoted(r.command()))
	}
	if h.key != nil && h.key.Signs {
		b.WriteString(h.signing())
	}
	if h.rewrite {
		for _, a := range []address.Address{without, with} {
			fmt.Fprintf(&b, "[url %s]\n\tinsteadOf = %s\n\tpushInsteadOf = %s\n", quoted(a.String()), quoted(a.String()), quoted(a.String()))
		}
	}
	b.WriteString(kinds.Closing + "\n")
	return b.String()
}

// route is the way over SSH with the account's key; nil where none is gone.
func (h *hook) route() *route {
	if h.key == nil || h.account == nil || h.address.Scheme != "ssh" {
		return nil
	}
	return h.desk.route(h.key, h.address)
}

// quoted writes a value of git's configuration (git-config documentation, "Syntax").
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// writeInclude writes the included file, and what it names, where they are not as they
// should be.
func (h *hook) writeInclude(ctx context.Context) error {
	if !h.needed() {
		return nil
	}
	if r := h.route(); r != nil {
		if err := r.write(ctx); err != nil {
			return err
		}
	}
	if h.key != nil && h.key.Signs {
		if err := h.desk.writeSigners(h.key); err != nil {
			return err
		}
	}
	old, err := files.Read(h.includeFile(), 64<<10)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err == nil && bytes.Equal(old, []byte(h.includeText())) {
		return nil
	}
	return files.Write(h.includeFile(), []byte(h.includeText()), 0o600)
}

// config gives the same as configuration for one run of git, for use before the
// repository has it.
func (h *hook) config() []string {
	if !h.needed() {
		return nil
	}
	return append([]string{"include.path=" + h.includeFile()}, h.shared()...)
}

// shared lets git go over the connection that this run has to the server, if it has one.
func (h *hook) shared() []string {
	r := h.route()
	if r == nil || len(h.desk.servers) == 0 {
		return nil
	}
	via := h.desk.sharedBy(r)
	if _, err := os.Stat(via); via == "" || err != nil {
		return nil
	}
	return []string{"core.sshCommand=" + r.commandWith("-o", "ControlPath="+via)}
}

// done reports whether remote and sign-in stand as they should.
func (h *hook) done(ctx context.Context) (bool, error) {
	url, err := h.repo.Do(ctx, "config", "--local", "--get", "remote."+h.remote+".url")
	if git.Code(err) == 1 || git.Code(err) == 128 {
		return false, nil
	}
	if err != nil || url != h.address.String() {
		return false, err
	}
	if !h.needed() {
		return true, nil
	}
	if r := h.route(); r != nil {
		if _, err := os.Stat(r.file()); err != nil {
			return false, nil
		}
	}
	includes, err := h.includes(ctx)
	if err != nil || !slices.Contains(includes, h.includeFile()) {
		return false, err
	}
	old, err := files.Read(h.includeFile(), 64<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return string(old) == h.includeText(), err
}

func (h *hook) includes(ctx context.Context) ([]string, error) {
	list, err := h.repo.Lines(ctx, "config", "--local", "-z", "--get-all", "include.path")
	if git.Code(err) == 1 {
		return nil, nil
	}
	return list, err
}

// set writes remote and sign-in into the repository's configuration.
func (h *hook) set(ctx context.Context) error {
	if err := h.writeInclude(ctx); err != nil {
		return err
	}
	if h.needed() {
		stands, err := h.includes(ctx)
		if err != nil {
			return err
		}
		if !slices.Contains(stands, h.includeFile()) { // it keeps its place, so that a second try changes nothing
			if err := h.dropIncludes(ctx); err != nil {
				return err
			}
			if _, err := h.repo.Do(ctx, "config", "--local", "--add", "include.path", h.includeFile()); err != nil {
				return err
			}
		}
	}
	verb := "set-url"
	old, err := h.repo.Do(ctx, "config", "--local", "--get", "remote."+h.remote+".url")
	if git.Code(err) == 1 {
		verb = "add"
	} else if err != nil {
		return err
	}
	if was, err := address.Parse(old); err == nil && !was.Same(h.address) { // what was said for the former address is over
		former := *h
		former.address = was
		if err := former.dropIncludes(ctx); err != nil {
			return err
		}
	}
	_, err = h.repo.Do(ctx, "remote", verb, h.remote, h.address.String())
	return err
}

// dropIncludes takes out earlier includes of ours, and only ours.
func (h *hook) dropIncludes(ctx context.Context) error {
	includes, err := h.includes(ctx)
	if err != nil {
		return err
	}
	ours := filepath.Join(h.desk.Home.State, "git") + string(filepath.Separator)
	for _, path := range includes {
		if strings.HasPrefix(path, ours) && strings.HasSuffix(path, string(filepath.Separator)+filepath.Base(h.includeFile())) {
			if _, err := h.repo.Do(ctx, "config", "--local", "--fixed-value", "--unset-all", "include.path", path); err != nil {
				return err
			}
		}
	}
	return nil
}

// unset takes remote and sign-in out again.
func (h *hook) unset(ctx context.Context) error {
	if err := h.dropIncludes(ctx); err != nil {
		return err
	}
	if _, err := h.repo.Do(ctx, "remote", "remove", h.remote); err != nil && git.Code(err) != 2 {
		return err
	}
	return nil
}

// rewrites finds the setting by which git would turn the address into another
// (git-config documentation, url.<base>.insteadOf). Nil when none does.
func rewrites(settings []git.Setting, a address.Address) *git.Setting {
	var best *git.Setting
	longest := 0
	for i, s := range settings {
		key := strings.ToLower(s.Key)
		if !strings.HasPrefix(key, "url.") || !(strings.HasSuffix(key, ".insteadof") || strings.HasSuffix(key, ".pushinsteadof")) {
			continue
		}
		base := s.Key[len("url."):strings.LastIndexByte(s.Key, '.')]
		if s.Value != "" && len(s.Value) > longest && strings.HasPrefix(a.String(), s.Value) && base != s.Value {
			best, longest = &settings[i], len(s.Value)
		}
	}
	return best
}

// checkNetrc refuses to go on when a netrc file would sign git in as someone else:
// git takes what it finds there before it asks any helper.
func (d *Desk) checkNetrc(a address.Address, user string) error {
	if a.Scheme == "ssh" {
		return nil
	}
	host := a.Host
	if name, _, err := net.SplitHostPort(host); err == nil {
		host = name
	}
	e := netrc.Find(d.UserHome, host)
	if e == nil || e.Login == user {
		return nil
	}
	which := "an entry for " + host
	if e.Any {
		which = "an entry for every host"
	}
	return fault.New(fault.Decision, "%s has %s on line %d that signs in as %s, and git uses it before anything else: your work would go up as %s, not as %s",
		text.Visible(e.File), which, e.Line, text.Quote(e.Login), text.Quote(e.Login), text.Quote(user)).
		Try("open it at that entry and take it out", fmt.Sprintf("%s +%d %s", editor(), e.Line, text.Quote(e.File))).
		Try("or use the account of that name", "--account "+text.Quote(e.Login))
}

func editor() string {
	for _, name := range []string{"VISUAL", "EDITOR"} {
		if e := os.Getenv(name); e != "" && text.Quote(e) == e {
			return e
		}
	}
	return "vi"
}

// mend rewrites the included file of a hooked project if the program has moved.
func (d *Desk) mend(ctx context.Context, p Project) error {
	if p.Account == "" {
		return nil
	}
	a, err := address.Parse(p.Address)
	if err != nil {
		return err
	}
	account, err := d.Account(p.Account)
	if err != nil {
		return err
	}
	h := &hook{desk: d, address: a, account: account}
	old, err := files.Read(h.includeFile(), 64<<10)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	h.rewrite = bytes.Contains(old, []byte("[url "))
	if h.key, err = d.keyOf(account.Name, keyInForce); err != nil {
		return err
	}
	return h.writeInclude(ctx)
}
