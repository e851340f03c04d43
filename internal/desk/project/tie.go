package project

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

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/kinds"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/netrc"
)

// Tie is what ties a work tree to a hosted repository: the remote, the sign-in for
// exactly its address, and the account's name and e-mail.
type Tie struct {
	Desk    *desk.Desk
	Repo    *git.Repo
	Folder  *Folder // whose work tree it is; nil where nothing is sent or received
	Remote  string
	Address address.Address
	Account *accounts.Account // nil: the sign-in that git has by itself
	Key     *accounts.Key     // the account's on this machine, or one of a file; nil for none
	Pinned  bool              // over SSH by the person's own keys, to a host whose key was confirmed for this program
	Rewrite bool              // git's own rewriting of addresses is to be kept off this one
}

// includeFile is the file that git includes for this account and address: in one
// folder per account, so that a moved program is mended in one place.
func (h *Tie) includeFile() string {
	name := "nobody"
	switch {
	case h.Account != nil:
		name = h.Account.Name
	case h.Key != nil:
		name = h.Key.Account
	}
	return filepath.Join(h.Desk.Home.State, "git", name, files.Short(h.Address.Key())+".gitconfig")
}

// isOurs reports whether a file that git includes is one that this program wrote.
func isOurs(d *desk.Desk, path string) bool {
	return strings.HasPrefix(filepath.FromSlash(path), filepath.Join(d.Home.State, "git")+string(filepath.Separator))
}

// needed reports whether git has to be told anything for this address.
func (h *Tie) needed() bool { return h.Account != nil || h.Rewrite || h.Route() != nil }

// includeText is that file's contents. For the address with and without ".git" the
// helpers of the person's own configuration are put aside by an empty entry
// (gitcredentials documentation, "helper"), then ours is named. The path is part of
// what is asked, so that ours answers for this repository alone.
func (h *Tie) includeText() string {
	var b strings.Builder
	b.WriteString(kinds.Opening + "\n")
	with, without := h.Address, h.Address
	with.Suffix, without.Suffix = true, false
	if h.Account != nil && h.Address.Scheme != "ssh" {
		words := []string{filepath.ToSlash(h.Desk.Program), "credential", "--account", h.Account.Name, "--for", h.Address.Key()}
		if h.Desk.Home.Top != "" {
			words = append(words, "--home", filepath.ToSlash(h.Desk.Home.Top)) // git may be run where the variable is not set
		}
		helper := "!" + text.Command(words...)
		for _, a := range []address.Address{without, with} {
			fmt.Fprintf(&b, "[credential %s]\n\thelper =\n\thelper = %s\n\tuseHttpPath = true\n", quoted(a.String()), quoted(helper))
		}
	}
	if r := h.Route(); r != nil {
		fmt.Fprintf(&b, "[core]\n\tsshCommand = %s\n[ssh]\n\tvariant = ssh\n", quoted(r.Command()))
	}
	if h.Key != nil && h.Key.Signs {
		b.WriteString(h.signing())
	}
	if h.Rewrite {
		for _, a := range []address.Address{without, with} {
			fmt.Fprintf(&b, "[url %s]\n\tinsteadOf = %s\n\tpushInsteadOf = %s\n", quoted(a.String()), quoted(a.String()), quoted(a.String()))
		}
	}
	b.WriteString(kinds.Closing + "\n")
	return b.String()
}

// Work gives the folder for runs of git that reach the host; see Folder.Work.
func (h *Tie) Work() (*git.Work, error) {
	if h.Folder == nil {
		return nil, errors.New("a tie without its folder neither sends nor receives")
	}
	return h.Folder.Work()
}

// Route is the way over SSH with the account's key, or to a host that is known here; nil where none is gone.
func (h *Tie) Route() *login.Route {
	if h.Address.Scheme != "ssh" || h.Key == nil && !h.Pinned || h.Key != nil && h.Account == nil && !h.Key.Alone {
		return nil
	}
	return login.FindRoute(h.Desk, h.Key, h.Address)
}

// ByItself settles the way over SSH without an account: with the key of a file, if one is named, or by the person's own
// keys, to a host whose key was confirmed here. The person's own command for SSH goes before.
func (h *Tie) ByItself(keyFile string, settings []git.Setting) (err error) {
	switch {
	case h.Address.Scheme != "ssh" || h.Account != nil:
	case keyFile != "":
		h.Key, err = accounts.OfFile(keyFile)
	case git.OverridesSSH() == "" && !h.OwnCommand(settings):
		h.Pinned, err = login.Confirmed(h.Desk, h.Address.Host)
	}
	return err
}

// OwnCommand reports whether the person's settings name a command for SSH.
func (h *Tie) OwnCommand(settings []git.Setting) bool {
	return slices.ContainsFunc(settings, func(s git.Setting) bool { return strings.EqualFold(s.Key, "core.sshCommand") && !s.Own() })
}

// quoted writes a value of git's configuration (git-config documentation, "Syntax").
func quoted(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"`
}

// WriteInclude writes the included file, and what it names, where they are not as they
// should be.
func (h *Tie) WriteInclude(ctx context.Context) error {
	if !h.needed() {
		return nil
	}
	if r := h.Route(); r != nil {
		if err := r.Write(ctx); err != nil {
			return err
		}
	}
	if h.Key != nil && h.Key.Signs {
		if err := writeSigners(h.Desk, h.Key); err != nil {
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

// Config gives the same as configuration for one run of git, for use before the
// repository has it.
func (h *Tie) Config() []git.Set {
	if !h.needed() {
		return nil
	}
	return append([]git.Set{{Key: "include.path", Value: h.includeFile()}}, h.Shared()...)
}

// Shared is what holds for each run of git that signs in: over SSH, to go over the connection that
// this run has to the server, if it has one.
func (h *Tie) Shared() []git.Set {
	if h.Account != nil && h.Address.Scheme != "ssh" {
		return []git.Set{{Key: "http.followRedirects", Value: "false"}} // who signs in is not led elsewhere
	}
	r := h.Route()
	if r != nil && h.Account == nil { // the repository may not have it: plain git cloned it
		return []git.Set{{Key: "core.sshCommand", Value: r.Command()}}
	}
	if r == nil || len(h.Desk.Servers) == 0 {
		return nil
	}
	via := login.SharedBy(h.Desk, r)
	if _, err := os.Stat(via); via == "" || err != nil {
		return nil
	}
	return []git.Set{{Key: "core.sshCommand", Value: r.CommandWith("-o", "ControlPath="+via)}}
}

// Done reports whether remote and sign-in stand as they should.
func (h *Tie) Done() (bool, error) {
	url, _, err := h.Repo.Own("remote." + h.Remote + ".url")
	if err != nil || !h.leadsThere(url) {
		return false, err
	}
	if !h.needed() {
		return true, nil
	}
	if r := h.Route(); r != nil {
		if _, err := os.Stat(r.File()); err != nil {
			return false, nil
		}
	}
	includes, err := h.includes()
	if err != nil || !slices.Contains(includes, h.includeFile()) {
		return false, err
	}
	old, err := files.Read(h.includeFile(), 64<<10)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return string(old) == h.includeText(), err
}

func (h *Tie) includes() ([]string, error) { return h.Repo.OwnAll("include.path") }

// Set writes remote and sign-in into the repository's configuration.
func (h *Tie) Set(ctx context.Context) error {
	if err := h.WriteInclude(ctx); err != nil {
		return err
	}
	if h.needed() {
		stands, err := h.includes()
		if err != nil {
			return err
		}
		if !slices.Contains(stands, h.includeFile()) { // it keeps its place, so that a second try changes nothing
			if err := h.DropIncludes(ctx); err != nil {
				return err
			}
			if _, err := h.Repo.Do(ctx, "config", "--local", "--add", "include.path", h.includeFile()); err != nil {
				return err
			}
		}
	}
	verb := "set-url"
	old, set, err := h.Repo.Own("remote." + h.Remote + ".url")
	if err != nil {
		return err
	}
	if !set {
		verb = "add"
	}
	if was, err := address.Parse(old); err == nil && !was.Same(h.Address) { // what was said for the former address is over
		former := *h
		former.Address = was
		if err := former.DropIncludes(ctx); err != nil {
			return err
		}
	}
	if h.leadsThere(old) {
		return nil
	}
	_, err = h.Repo.Do(ctx, "remote", verb, h.Remote, h.Address.String())
	return err
}

// leadsThere reports whether a remote's address is the tie's, as it stands or as the person's git takes it.
func (h *Tie) leadsThere(url string) bool {
	return url == h.Address.String() || url != "" && h.Folder != nil && !h.Rewrite && Leads(h.Desk, h.Folder.Settings, url) == h.Address.String()
}

// DropIncludes takes out earlier includes of ours, and only ours.
func (h *Tie) DropIncludes(ctx context.Context) error {
	includes, err := h.includes()
	if err != nil {
		return err
	}
	for _, path := range includes {
		if isOurs(h.Desk, path) && strings.HasSuffix(path, string(filepath.Separator)+filepath.Base(h.includeFile())) {
			if _, err := h.Repo.Do(ctx, "config", "--local", "--fixed-value", "--unset-all", "include.path", path); err != nil {
				return err
			}
		}
	}
	return nil
}

// DropAllIncludes takes all includes of ours out of a repository's configuration.
func DropAllIncludes(ctx context.Context, d *desk.Desk, repo *git.Repo) error {
	includes, err := repo.OwnAll("include.path")
	for _, path := range includes {
		if err == nil && isOurs(d, path) {
			_, err = repo.Do(ctx, "config", "--local", "--fixed-value", "--unset-all", "include.path", path)
		}
	}
	return git.Fault(err, "git's configuration cannot be written")
}

// Unset takes remote and sign-in out again.
func (h *Tie) Unset(ctx context.Context) error {
	if err := h.DropIncludes(ctx); err != nil {
		return err
	}
	if _, err := h.Repo.Do(ctx, "remote", "remove", h.Remote); err != nil && git.Code(err) != 2 {
		return err
	}
	return nil
}

// Rewrites finds the setting by which git would turn the address into another
// (git-config documentation, url.<base>.insteadOf). Nil when none does.
func Rewrites(settings []git.Setting, a address.Address) *git.Setting {
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

// CheckNetrc refuses to go on when a netrc file would sign git in as someone else:
// git takes what it finds there before it asks any helper.
func CheckNetrc(d *desk.Desk, a address.Address, user string) error {
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

// mend rewrites the included file of a attached project if the program has moved.
func mend(ctx context.Context, d *desk.Desk, p Project) error {
	if p.Account == "" {
		return nil
	}
	a, err := address.Parse(p.Address)
	if err != nil {
		return err
	}
	account, err := accounts.Named(d, p.Account)
	if err != nil {
		return err
	}
	h := &Tie{Desk: d, Address: a, Account: account}
	old, err := files.Read(h.includeFile(), 64<<10)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	h.Rewrite = bytes.Contains(old, []byte("[url "))
	if h.Key, err = accounts.KeyOf(d, account.Name, accounts.KeyInForce); err != nil {
		return err
	}
	return h.WriteInclude(ctx)
}

// MendAll writes again what git and ssh are told for an account's attached projects.
func MendAll(ctx context.Context, d *desk.Desk, account string) error {
	projects, err := Register(d)
	if err != nil {
		return err
	}
	for _, p := range projects {
		if p.Account == account {
			err = errors.Join(err, mend(ctx, d, p))
		}
	}
	return err
}
