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
func (w *Work) setAside(path, name string) error {
	if w.run.Fact("aside "+name) != "" {
		return nil
	}
	old, err := files.Read(path, 512<<20)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return w.run.Note("aside "+name, "absent")
	case err != nil:
		return err
	}
	s, err := os.Stat(path)
	if err != nil {
		return err
	}
	if err := files.WriteBy(w.run.Journal.Aside(name), w.run.Journal.Aside(name+".new"), old, s.Mode().Perm()); err != nil {
		return err
	}
	return w.run.Note("aside "+name, "kept")
}

// wrote notes what a file is after the step, to know later whether it was touched.
func (w *Work) wrote(path, name string) error {
	data, err := files.Read(path, 512<<20)
	if err != nil {
		return err
	}
	return w.run.Note("wrote "+name, files.Short(string(data)))
}

// touched reports whether a file is no longer as the step left it.
func (w *Work) touched(path, name string) (bool, error) {
	noted := w.run.Fact("wrote " + name)
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
func (w *Work) besideGit(name string) string {
	return filepath.Join(w.folder.Path, ".git", "uncinate-"+name)
}

func (w *Work) bringBack(path, name string) error {
	switch w.run.Fact("aside " + name) {
	case "absent":
		if err := os.Remove(path); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	case "kept":
		old, err := files.Read(w.run.Journal.Aside(name), 512<<20)
		if err != nil {
			return err
		}
		return files.WriteBy(path, w.besideGit(name+".old"), old, 0o644)
	}
	return nil
}

func (t *Target) undoInit(context.Context) error {
	if t.run.Fact("made-git") != "yes" {
		return nil
	}
	return os.RemoveAll(filepath.Join(t.folder.Path, ".git"))
}

func (t *Target) undoIdentity(ctx context.Context) error {
	for _, key := range []string{"user.name", "user.email"} {
		was := t.run.Fact("set " + key)
		var err error
		if before, ok := strings.CutPrefix(was, "was "); ok {
			_, err = t.folder.Repo.Do(ctx, "config", "--local", key, before)
		} else if was == "unset" {
			_, err = t.folder.Repo.Do(ctx, "config", "--local", "--unset", key)
		}
		if err != nil && git.Code(err) != 5 { // 5: it is not set
			return err
		}
	}
	return nil
}

func (w *Work) undoIgnore(context.Context) error {
	path := filepath.Join(w.folder.Path, ".gitignore")
	touched, err := w.touched(path, "gitignore")
	if err == nil && !touched { // what the person wrote in it since stays
		err = w.bringBack(path, "gitignore")
	}
	if e := os.Remove(w.besideGit("gitignore.new")); e != nil && !errors.Is(e, fs.ErrNotExist) {
		err = errors.Join(err, e)
	}
	return err
}

func (w *Work) undoCommit(ctx context.Context) error {
	if w.run.Fact("made-git") == "yes" {
		return nil // the whole of .git goes
	}
	if id := w.run.Fact("commit"); id != "" {
		ref := "refs/heads/" + w.run.Fact("branch")
		if now, err := w.folder.Repo.Do(ctx, "rev-parse", "-q", "--verify", ref); err == nil && now == id {
			if _, err := w.folder.Repo.Do(ctx, "update-ref", "-d", ref, id); err != nil {
				return err
			}
		}
	}
	return w.bringBack(filepath.Join(w.folder.Path, ".git", "index"), "index")
}

func (t *Target) undoHook(ctx context.Context) error {
	if err := project.Strike(t.Desk, t.folder.Path, t.Options.Remote); err != nil {
		return err
	}
	if t.run.Fact("made-git") == "yes" && t.run.Fact("keep-git") == "" {
		return nil
	}
	if t.run.Fact("aside config") == "" {
		return nil // it was cut off before it changed anything
	}
	ours := t.run.Fact("new remote") == "yes"
	if ours {
		if err := t.dropTracking(ctx); err != nil {
			return err
		}
	}
	path := filepath.Join(t.folder.Path, ".git", "config")
	touched, err := t.touched(path, "config")
	if err != nil {
		return err
	}
	switch {
	case !touched:
		return t.bringBack(path, "config")
	case ours:
		return unhook(ctx, t.Desk, t.folder, t.Options.Remote)
	}
	h, err := t.standingHook(ctx)
	if err != nil || h == nil {
		return err
	}
	return desk.GitFault(h.DropIncludes(ctx), "git's configuration cannot be written")
}

// dropTracking deletes what git noted of the remote's branches.
func (w *Work) dropTracking(ctx context.Context) error {
	refs, err := w.folder.Repo.Do(ctx, "for-each-ref", "--format=delete %(refname)", "refs/remotes/"+w.Options.Remote+"/")
	if err != nil || refs == "" {
		return desk.GitFault(err, "git cannot list the remote's branches")
	}
	_, err = w.folder.Repo.Run(ctx, git.Cmd{Dir: w.folder.Path, Args: []string{"update-ref", "--stdin"}, In: strings.NewReader(refs + "\n")})
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
func (t *Target) undoCreate(ctx context.Context) error {
	there, found, err := t.made(ctx)
	if err != nil || !found {
		return err
	}
	if err := t.Login.May("repository-delete", "delete a repository"); err != nil {
		return err
	}
	_, err = t.Login.Do(ctx, "repository-delete", "delete "+there.Path(), map[string]any{
		"owner": there.Owner, "name": there.Name, "path": there.Path(), "id": there.ID, "version": there.Version})
	return err
}

// undoSend deletes on the host the branches that this attach sent to an empty
// repository, each only while it is what was sent (git-push documentation,
// --force-with-lease). A host that lets no default branch be deleted keeps it.
func (t *Target) undoSend(ctx context.Context) error {
	h, err := t.standingHook(ctx)
	if err != nil || h == nil {
		return err
	}
	refs, err := project.Refs(ctx, t.Desk, h, "")
	if err != nil {
		return err
	}
	for fact, id := range t.run.State.Facts {
		branch, sent := strings.CutPrefix(fact, "sent ")
		was := t.run.Fact("there " + branch) // the commit that stood there before; "" for none
		if !sent || refs.Branch(branch) != id || was == "" && t.run.Fact("vacant") != "yes" {
			continue
		}
		ref := "refs/heads/" + branch
		err := project.Push(ctx, t.Desk, h, []string{"push", "--porcelain", "--force-with-lease=" + ref + ":" + id, "--", t.Options.Remote, was + ":" + ref})
		if ctx.Err() != nil || fault.Is(err, fault.Unreachable) {
			return err
		}
		if err != nil {
			t.Desk.Tell.Note("Note: %s keeps the branch %s: %s", h.Address.String(), text.Visible(branch), strings.Join(append([]string{fault.Of(err).Says}, fault.Of(err).Details...), "; "))
		}
	}
	return nil
}

// standingHook is the hook as an unfinished attach set it; nil if it did not come to it.
func (t *Target) standingHook(ctx context.Context) (*project.Hook, error) {
	url := t.folder.Remotes[t.Options.Remote]
	if url == "" {
		return nil, nil
	}
	at, err := address.Parse(url)
	if err != nil {
		return nil, err
	}
	h := &project.Hook{Desk: t.Desk, Repo: t.folder.Repo, Remote: t.Options.Remote, Address: at}
	if t.project.Account != "" {
		h.Account, err = accounts.Named(t.Desk, t.project.Account)
	}
	return h, err
}

// undoDefault gives the hosted repository its former default branch again.
func (t *Target) undoDefault(ctx context.Context) error {
	account, err := accounts.Named(t.Desk, t.project.Account)
	if err != nil {
		return err
	}
	if t.Login, err = login.Open(ctx, t.Desk, account); err != nil {
		return err
	}
	_, owner, name, err := hosts.Recognise(t.Desk, t.project.Address)
	if err != nil {
		return err
	}
	there, found, err := t.Login.Repository(ctx, owner, name)
	if err != nil || !found {
		return err
	}
	return t.setDefault(ctx, there, t.run.Fact("default was"))
}

// standing lists the branches, tags and stash, but for the one branch that this
// attach itself made.
func (joins *Join) standing(ctx context.Context) (string, error) {
	if !joins.folder.IsRepo {
		return "", nil
	}
	refs, err := joins.folder.Repo.Do(ctx, "for-each-ref", "--format=%(objectname) %(refname)", "refs/heads/", "refs/tags/", "refs/stash")
	if err != nil {
		return "", desk.GitFault(err, "git cannot list the branches")
	}
	ours := joins.run.Fact("commit") + " refs/heads/" + joins.run.Fact("branch")
	brought := strings.Split(joins.run.Fact("brought"), "\n") // tags that came in to be moved
	var lines []string
	for line := range strings.SplitSeq(refs, "\n") {
		if j := joins.way; j != nil && j.From != "" { // the branch that was renamed and joined, as it was
			if id, found := strings.CutSuffix(line, " refs/heads/"+j.Branch); found && (id == j.From || id == joins.run.Fact("joined")) {
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
func (j *Join) untouchedSince(ctx context.Context) error {
	now, err := j.standing(ctx)
	if err != nil || files.Short(now) == j.run.State.Head.Wanted["standing"] {
		return err
	}
	return fault.New(fault.Decision, "work went on here since the attach was cut off: other branches, tags or commits than then stand here now, so it cannot be put back").
		Try("finish the attach instead", text.Command("uncinate", "attach", j.folder.Path)).
		Try("or take only the hook off", text.Command("uncinate", "detach", "--hook-only", j.folder.Path))
}
