package attach

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// Putting back the steps of an attach. What a step changed is put back as it was if
// nobody touched it since; where somebody did, only the step's own part is taken out.

// setAside keeps a file's old form, once, and notes whether there was one.
func (a *Attach) setAside(path, name string) error {
	if a.run.Fact("aside "+name) != "" {
		return nil
	}
	old, err := files.Read(path, 512<<20)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return a.run.Note("aside "+name, "absent")
	case err != nil:
		return err
	}
	s, err := os.Stat(path)
	if err != nil {
		return err
	}
	if err := files.WriteBy(a.run.Journal.Aside(name), a.run.Journal.Aside(name+".new"), old, s.Mode().Perm()); err != nil {
		return err
	}
	return a.run.Note("aside "+name, "kept")
}

// wrote notes what a file is after the step, to know later whether it was touched.
func (a *Attach) wrote(path, name string) error {
	data, err := files.Read(path, 512<<20)
	if err != nil {
		return err
	}
	return a.run.Note("wrote "+name, files.Short(string(data)))
}

// touched reports whether a file is no longer as the step left it.
func (a *Attach) touched(path, name string) (bool, error) {
	noted := a.run.Fact("wrote " + name)
	if noted == "" {
		return false, nil // the step was cut off, so nobody has seen its work
	}
	data, err := files.Read(path, 512<<20)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	return files.Short(string(data)) != noted, err
}

// besideGit is a path for a temporary file of ours on the folder's own file system,
// where no list of the project's files meets it.
func (a *Attach) besideGit(name string) string {
	return filepath.Join(a.folder.Path, ".git", "uncinate-"+name)
}

func (a *Attach) bringBack(path, name string) error {
	switch a.run.Fact("aside " + name) {
	case "absent":
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	case "kept":
		old, err := files.Read(a.run.Journal.Aside(name), 512<<20)
		if err != nil {
			return err
		}
		return files.WriteBy(path, a.besideGit(name+".old"), old, 0o644)
	}
	return nil
}

func (a *Attach) undoInit(context.Context) error {
	if a.run.Fact("made-git") != "yes" {
		return nil
	}
	return os.RemoveAll(filepath.Join(a.folder.Path, ".git"))
}

func (a *Attach) undoIdentity(ctx context.Context) error {
	for _, key := range []string{"user.name", "user.email"} {
		was := a.run.Fact("set " + key)
		var err error
		if before, ok := strings.CutPrefix(was, "was "); ok {
			_, err = a.folder.Repo.Do(ctx, "config", "--local", key, before)
		} else if was == "unset" {
			_, err = a.folder.Repo.Do(ctx, "config", "--local", "--unset", key)
		}
		if err != nil && git.Code(err) != 5 { // 5: it is not set
			return err
		}
	}
	return nil
}

func (a *Attach) undoIgnore(context.Context) error {
	path := filepath.Join(a.folder.Path, ".gitignore")
	touched, err := a.touched(path, "gitignore")
	if err == nil && !touched { // what the person wrote in it since stays
		err = a.bringBack(path, "gitignore")
	}
	if e := os.Remove(a.besideGit("gitignore.new")); e != nil && !errors.Is(e, fs.ErrNotExist) {
		err = errors.Join(err, e)
	}
	return err
}

func (a *Attach) undoCommit(ctx context.Context) error {
	if a.run.Fact("made-git") == "yes" {
		return nil // the whole of .git goes
	}
	if id := a.run.Fact("commit"); id != "" {
		ref := "refs/heads/" + a.run.Fact("branch")
		if now, err := a.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", ref); err == nil && now == id {
			if _, err := a.folder.Repo.Do(ctx, "update-ref", "-d", ref, id); err != nil {
				return err
			}
		}
	}
	return a.bringBack(filepath.Join(a.folder.Path, ".git", "index"), "index")
}

func (a *Attach) undoHook(ctx context.Context) error {
	if err := project.Strike(a.Desk, a.folder.Path, a.Options.Remote); err != nil {
		return err
	}
	if a.run.Fact("made-git") == "yes" && a.run.Fact("keep-git") == "" {
		return nil
	}
	if a.run.Fact("aside config") == "" {
		return nil // it was cut off before it changed anything
	}
	ours := a.run.Fact("new remote") == "yes"
	if ours {
		if err := a.dropTracking(ctx); err != nil {
			return err
		}
	}
	path := filepath.Join(a.folder.Path, ".git", "config")
	touched, err := a.touched(path, "config")
	if err != nil {
		return err
	}
	switch {
	case !touched:
		return a.bringBack(path, "config")
	case ours:
		return unhook(ctx, a.Desk, a.folder, a.Options.Remote)
	}
	h, err := a.standingHook(ctx)
	if err != nil || h == nil {
		return err
	}
	return desk.GitFault(h.DropIncludes(ctx), "git's configuration cannot be written")
}

// dropTracking deletes what git noted of the remote's branches.
func (a *Attach) dropTracking(ctx context.Context) error {
	refs, err := a.folder.Repo.Do(ctx, "for-each-ref", "--format=delete %(refname)", "refs/remotes/"+a.Options.Remote+"/")
	if err != nil || refs == "" {
		return desk.GitFault(err, "git cannot list the remote's branches")
	}
	_, err = a.folder.Repo.Run(ctx, git.Cmd{Dir: a.folder.Path, Args: []string{"update-ref", "--stdin"}, In: strings.NewReader(refs + "\n")})
	return desk.GitFault(err, "git cannot forget the remote's branches")
}

// unhook takes a remote, its sign-in and the branches' ties to it out of a
// repository's configuration, and nothing else.
func unhook(ctx context.Context, d *desk.Desk, f *project.Folder, remote string) error {
	h := &project.Hook{Desk: d, Repo: f.Repo, Remote: remote}
	if url := f.Remotes[remote]; url != "" {
		at, err := address.Parse(url)
		if err != nil {
			return err
		}
		h.Address = at
	}
	return desk.GitFault(h.Unset(ctx), "git's configuration cannot be written")
}

// undoCreate deletes the hosted repository that this attach made, if it is unchanged.
func (a *Attach) undoCreate(ctx context.Context) error {
	there, found, err := a.made(ctx)
	if err != nil || !found {
		return err
	}
	if err := a.Login.May("repository-delete", "delete a repository"); err != nil {
		return err
	}
	_, err = a.Login.Do(ctx, "repository-delete", "delete "+there.Path(), map[string]any{
		"owner": there.Owner, "name": there.Name, "path": there.Path(), "id": there.ID, "version": there.Version})
	return err
}

// undoSend deletes on the host the branches that this attach sent to an empty
// repository, each only while it is what was sent (git-push documentation,
// --force-with-lease). A host that lets no default branch be deleted keeps it.
func (a *Attach) undoSend(ctx context.Context) error {
	h, err := a.standingHook(ctx)
	if err != nil || h == nil {
		return err
	}
	refs, err := project.Refs(ctx, a.Desk, h, "")
	if err != nil {
		return err
	}
	for fact, id := range a.run.State.Facts {
		branch, sent := strings.CutPrefix(fact, "sent ")
		was := a.run.Fact("there " + branch) // the commit that stood there before; "" for none
		if !sent || refs.Branch(branch) != id || was == "" && a.run.Fact("vacant") != "yes" {
			continue
		}
		ref := "refs/heads/" + branch
		err := project.Push(ctx, a.Desk, h, []string{"push", "--porcelain", "--force-with-lease=" + ref + ":" + id, "--", a.Options.Remote, was + ":" + ref})
		if ctx.Err() != nil || fault.Is(err, fault.Unreachable) {
			return err
		}
		if err != nil {
			a.Desk.Tell.Note("Note: %s keeps the branch %s: %s", h.Address.String(), text.Visible(branch), strings.Join(append([]string{fault.Of(err).Says}, fault.Of(err).Details...), "; "))
		}
	}
	return nil
}

// standingHook is the hook as an unfinished attach set it; nil if it did not come to it.
func (a *Attach) standingHook(ctx context.Context) (*project.Hook, error) {
	url := a.folder.Remotes[a.Options.Remote]
	if url == "" {
		return nil, nil
	}
	at, err := address.Parse(url)
	if err != nil {
		return nil, err
	}
	h := &project.Hook{Desk: a.Desk, Repo: a.folder.Repo, Remote: a.Options.Remote, Address: at}
	if a.project.Account != "" {
		h.Account, err = accounts.Named(a.Desk, a.project.Account)
	}
	return h, err
}

// undoDefault gives the hosted repository its former default branch again.
func (a *Attach) undoDefault(ctx context.Context) error {
	account, err := accounts.Named(a.Desk, a.project.Account)
	if err != nil {
		return err
	}
	if a.Login, err = login.Open(ctx, a.Desk, account); err != nil {
		return err
	}
	_, owner, name, err := hosts.Recognise(a.Desk, a.project.Address)
	if err != nil {
		return err
	}
	there, found, err := a.Login.Repository(ctx, owner, name)
	if err != nil || !found {
		return err
	}
	return a.setDefault(ctx, there, a.run.Fact("default was"))
}

// standing lists the branches, tags and stash, but for the one branch that this
// attach itself made.
func (a *Attach) standing(ctx context.Context) (string, error) {
	if !a.folder.IsRepo {
		return "", nil
	}
	refs, err := a.folder.Repo.Do(ctx, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads/", "refs/tags/", "refs/stash")
	if err != nil {
		return "", desk.GitFault(err, "git cannot list the branches")
	}
	ours := a.run.Fact("commit") + " refs/heads/" + a.run.Fact("branch")
	brought := strings.Split(a.run.Fact("brought"), "\n") // tags that came in to be moved
	var lines []string
	for line := range strings.SplitSeq(refs, "\n") {
		if j := a.join; j != nil && j.From != "" { // the branch that was renamed and joined, as it was
			if id, found := strings.CutSuffix(line, " refs/heads/"+j.Branch); found && (id == j.From || id == a.run.Fact("joined")) {
				line = j.From + " refs/heads/" + j.Was
			}
		}
		if line != "" && line != ours && !slices.Contains(brought, line) {
			lines = append(lines, line)
		}
	}
	slices.Sort(lines)
	return strings.Join(lines, "\n"), nil
}

// untouchedSince refuses to put back a repository in which the person went on working.
func (a *Attach) untouchedSince(ctx context.Context) error {
	now, err := a.standing(ctx)
	if err != nil || files.Short(now) == a.run.State.Head.Wanted["standing"] {
		return err
	}
	return fault.New(fault.Decision, "work went on here since the attach was cut off: other branches, tags or commits than then stand here now, so it cannot be put back").
		Try("finish the attach instead", text.Command("uncinate", "attach", a.folder.Path)).
		Try("or take only the hook off", text.Command("uncinate", "detach", "--hook-only", a.folder.Path))
}
