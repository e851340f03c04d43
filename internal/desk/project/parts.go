package project

import (
	"context"
	"path/filepath"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Part is a repository inside a project, a submodule (gitsubmodules documentation).
type Part struct {
	Name   string // in .gitmodules
	Path   string // from the top, with slashes
	URL    string // as .gitmodules has it
	Commit string // at which it is to be
}

// Here reports whether the part was brought.
func (p Part) Here(f *Folder) bool {
	return files.KindOf(filepath.Join(f.Path, filepath.FromSlash(p.Path), ".git")) != files.None
}

// Parts lists the repositories inside a project, by what .gitmodules and a commit say, or the index for "". Git's own
// listing would run git in there, with what is set in there.
func Parts(ctx context.Context, f *Folder, commit string) ([]Part, error) {
	if files.KindOf(filepath.Join(f.Path, ".gitmodules")) != files.Regular {
		return nil, nil
	}
	named, err := f.Repo.Lines(ctx, "config", "--file", ".gitmodules", "-z", "--get-regexp", `^submodule\..*\.(path|url)$`)
	if err != nil && git.Code(err) != 1 {
		return nil, git.Fault(err, ".gitmodules cannot be read")
	}
	urls, names := map[string]string{}, map[string]string{}
	args := []string{"--literal-pathspecs", "ls-files", "-s", "-z", "--"}
	if commit != "" {
		args = []string{"--literal-pathspecs", "ls-tree", "-z", commit, "--"}
	}
	none := len(args)
	for _, line := range named {
		key, value, _ := strings.Cut(line, "\n")
		name, isURL := strings.CutSuffix(strings.TrimPrefix(key, "submodule."), ".url")
		if isURL {
			urls[name] = value
			continue
		}
		name = strings.TrimSuffix(name, ".path")
		if filepath.IsLocal(filepath.FromSlash(value)) {
			args, names[value] = append(args, value), name
		}
	}
	if len(args) == none {
		return nil, nil
	}
	lines, err := f.Repo.Lines(ctx, args...)
	if err != nil {
		return nil, git.Fault(err, "git cannot tell which repositories are inside this one")
	}
	var out []Part
	for _, line := range lines {
		about, path, _ := strings.Cut(line, "\t")
		fields := strings.Fields(about) // "160000 id 0", or "160000 commit id"
		if len(fields) != 3 || fields[0] != "160000" || names[path] == "" {
			continue
		}
		id := fields[1]
		if commit != "" {
			id = fields[2]
		}
		out = append(out, Part{Name: names[path], Path: path, URL: urls[names[path]], Commit: id})
	}
	return out, nil
}

// from is the address of a part, which may be told from the project's own (git-submodule documentation, add).
func (p Part) from(base address.Address) (address.Address, error) {
	url := p.URL
	if strings.HasPrefix(url, "./") || strings.HasPrefix(url, "../") {
		top := base.String()
		for {
			rest, up := strings.CutPrefix(url, "../")
			if up {
				top = top[:max(0, strings.LastIndexAny(top, "/:"))]
			} else if rest, up = strings.CutPrefix(url, "./"); !up {
				break
			}
			url = rest
		}
		sep := "/"
		if base.Home && !strings.Contains(top, ":") {
			sep = ":"
		}
		url = top + sep + url
	}
	at, err := address.Parse(url)
	if err == nil && !address.Guarded(at.Scheme, at.Host) {
		err = fault.New(fault.Refused, "plain http to %s would send what is in it unencrypted", at.Host)
	}
	return at.Bare(), err
}

// How deep and how many repositories inside are brought.
const (
	deepestPart = 5
	mostParts   = 200
)

// Filling brings the repositories inside a project that are not here yet.
type Filling struct {
	Desk    *desk.Desk
	Account *accounts.Account // the project's own; nil for none
	Filled  []string          // paths of those that were brought, from the project's top
	Left    []string          // of those that were not
}

// Fill brings them, each from an address that is checked, with the account that is kept for its host; at is the
// project's own address. One that cannot be brought keeps no other from it; the first cause is the error.
func (x *Filling) Fill(ctx context.Context, f *Folder, at address.Address) error {
	return x.fill(ctx, f, at, "", 1)
}

func (x *Filling) fill(ctx context.Context, f *Folder, at address.Address, prefix string, depth int) error {
	parts, err := Parts(ctx, f, "")
	if err != nil {
		return err
	}
	var first error
	for _, p := range parts {
		shown := prefix + p.Path
		if p.Here(f) {
			continue
		}
		from, err := p.from(at)
		if err == nil && len(x.Filled) >= mostParts {
			err = fault.New(fault.Refused, "there are more than %d of them", mostParts)
		}
		if err != nil {
			x.Left = append(x.Left, shown)
			x.Desk.Tell.Note("Note: the submodule %s stays empty, since it is not brought from %s: %s", text.Visible(shown), text.Visible(text.Excerpt(WithoutSecret(p.URL), 100)), fault.Of(err).Says)
			continue
		}
		sub, err := x.bring(ctx, f, p, from)
		if err != nil {
			if ctx.Err() != nil {
				return ctx.Err()
			}
			x.Left = append(x.Left, shown)
			if first == nil {
				told := *fault.Of(err)
				told.Says = "the submodule " + text.Visible(shown) + " cannot be brought: " + told.Says
				first = &told
			}
			continue
		}
		x.Filled = append(x.Filled, shown)
		if depth < deepestPart {
			if err := x.fill(ctx, sub, from, shown+"/", depth+1); err != nil && first == nil {
				first = err
			}
		}
	}
	return first
}

// bring brings one, and ties it to its account as its project is.
func (x *Filling) bring(ctx context.Context, f *Folder, p Part, from address.Address) (*Folder, error) {
	for dir := filepath.Dir(filepath.FromSlash(p.Path)); dir != "."; dir = filepath.Dir(dir) {
		if files.KindOf(filepath.Join(f.Path, dir)) != files.Folder { // it could lead out
			return nil, fault.New(fault.Refused, "the folder that it is in, %s, is none", text.Visible(dir))
		}
	}
	h, err := x.tie(ctx, f, from)
	if err != nil {
		return nil, err
	}
	work, err := f.Work()
	if err != nil {
		return nil, err
	}
	if err := h.WriteInclude(ctx); err != nil {
		return nil, err
	}
	for key, value := range map[string]string{"url": from.String(), "active": "true"} { // git goes to the address that was checked
		if _, err := f.Repo.Do(ctx, "config", "--local", "submodule."+p.Name+"."+key, value); err != nil {
			return nil, git.Fault(err, "git's configuration cannot be written")
		}
	}
	if err := x.update(ctx, work, f, p, h); err != nil {
		if _, look := Refs(ctx, x.Desk, h, ""); look != nil {
			return nil, look
		}
		return nil, git.Fault(err, "git cannot bring %s", from.String())
	}
	sub, err := LookLoosely(ctx, x.Desk, filepath.Join(f.Path, filepath.FromSlash(p.Path)))
	if err != nil {
		return nil, err
	}
	h.Repo, h.Folder, h.Remote = sub.Repo, sub, "origin"
	sub.ReadRemotes(x.Desk)
	if len(sub.Remotes) == 1 {
		for name := range sub.Remotes {
			h.Remote = name
		}
	}
	if h.needed() {
		err = h.Set(ctx)
	}
	return sub, err
}

// update lets git bring a part, or move it to the commit at which it is to be.
func (x *Filling) update(ctx context.Context, work *git.Work, f *Folder, p Part, h *Tie) error {
	var args []string
	for _, s := range h.Config() { // such settings reach git in there, and others do not
		args = append(args, "-c", s.Key+"="+s.Value)
	}
	args = append(args, "submodule", "update", "--init", "--checkout", "--progress", "--", p.Path)
	_, err := work.Run(ctx, git.Cmd{Args: args, Env: []string{"GIT_ALLOW_PROTOCOL=" + transports(f)}, Stall: git.Stall, Watch: Watch(x.Desk, "Receiving", "Receiving objects")})
	x.Desk.Tell.Progress("Receiving", 0, 0, "")
	return err
}

// Move moves a part that is here to the commit at which it is to be.
func (x *Filling) Move(ctx context.Context, f *Folder, at address.Address, p Part) error {
	h := &Tie{Desk: x.Desk, Repo: f.Repo, Folder: f} // what git knows by itself
	if from, err := p.from(at); err == nil {
		if h, err = x.tie(ctx, f, from); err != nil {
			return err
		}
		if err := h.WriteInclude(ctx); err != nil {
			return err
		}
	}
	work, err := f.Work()
	if err != nil {
		return err
	}
	return x.update(ctx, work, f, p, h)
}

// tie is how git signs in to a part's address: with the project's account where it is on the same host, or the only one
// there.
func (x *Filling) tie(ctx context.Context, f *Folder, from address.Address) (*Tie, error) {
	h := &Tie{Desk: x.Desk, Repo: f.Repo, Folder: f, Address: from}
	host, _, _, err := hosts.Recognise(x.Desk, from.String())
	if err != nil {
		return nil, err
	}
	if host != nil {
		if h.Account = x.Account; h.Account == nil || h.Account.Host != host.Name {
			h.Account = nil
			if on, err := accounts.On(x.Desk, host.Name); err == nil && len(on) == 1 {
				h.Account = on[0]
			}
		}
	} else if h.Account, err = accounts.For(x.Desk, from); err != nil {
		return nil, err
	}
	if h.Account == nil {
		return h, h.ByItself("", f.Settings)
	}
	h.Key, err = accounts.KeyOf(x.Desk, h.Account.Name, accounts.KeyInForce)
	if err == nil && from.Scheme == "ssh" && h.Key == nil {
		err = accounts.NoKey(x.Desk, h.Account)
	}
	return h, err
}

// transports are those over which parts are brought: as git has it, never from another folder of this machine unless
// the person's own settings say so (git-config documentation, protocol.allow; git's page, GIT_ALLOW_PROTOCOL).
func transports(f *Folder) string {
	for _, s := range f.Settings {
		if strings.EqualFold(s.Key, "protocol.file.allow") && !s.Own() && s.Value == "always" {
			return "file:git:http:https:ssh"
		}
	}
	return "git:http:https:ssh"
}
