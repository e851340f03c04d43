package target

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/hosts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// made finds the hosted repository that the journal's attach made: by the host's own
// id or, where the answer was lost, by our mark in its description.
func (t *Target) made(ctx context.Context) (description.Repository, bool, error) {
	owner, name := cmp.Or(t.Repository.Owner, t.Options.Owner), cmp.Or(t.Repository.Name, t.Options.Name)
	there, found, err := t.Login.Repository(ctx, owner, name)
	if err != nil || !found {
		return there, false, err
	}
	id, nonce := FactID.Of(t.Run), factNonce.Of(t.Run)
	if id != "" && id == there.ID || nonce != "" && strings.Contains(there.Description, nonce) {
		return there, true, nil
	}
	ours, err := t.pushed(ctx, there)
	return there, ours, err
}

// thereBefore names the branch on the host that held work before this attach joined it.
func (w *Work) thereBefore() string {
	for branch := range FactThere.Things(w.Run) { // an attach joins one at most
		return branch
	}
	return ""
}

// Putting back the steps of an attach. What a step changed is put back as it was if
// nobody touched it since; where somebody did, only the step's own part is taken out.

// SetAside keeps a file's old form, once, and notes whether there was one.
func (w *Work) SetAside(path, name string) error {
	noted := factAside.About(name)
	if noted.Known(w.Run) {
		return nil
	}
	kept, err := files.SetAside(path, w.Run.Journal.Aside(name))
	if err != nil {
		return err
	}
	return noted.Note(w.Run, kept)
}

// Changed reports whether a step came so far that it may have changed a file.
func (w *Work) Changed(name string) bool { return factAside.About(name).Known(w.Run) }

// Wrote notes what a file is after the step, to know later whether it was touched.
func (w *Work) Wrote(path, name string) error {
	data, err := files.Read(path, files.MostAside)
	if err != nil {
		return err
	}
	return factWrote.About(name).Note(w.Run, files.Short(string(data)))
}

// WillWrite notes what a file will be after the step.
func (w *Work) WillWrite(name, contents string) error {
	return factWrote.About(name).Note(w.Run, files.Short(contents))
}

// Touched reports whether a file is no longer as the step left it.
func (w *Work) Touched(path, name string) (bool, error) {
	noted := factWrote.About(name).Of(w.Run)
	if noted == "" {
		return false, nil // the step was cut off, so nobody has seen its work
	}
	data, err := files.Read(path, files.MostAside)
	if errors.Is(err, fs.ErrNotExist) {
		return true, nil
	}
	return files.Short(string(data)) != noted, err
}

// BesideGit is a path for a temporary file of ours on the folder's own file system,
// where no list of the project's files meets it.
func (w *Work) BesideGit(name string) string {
	return filepath.Join(w.Folder.Path, ".git", "uncinate-"+name)
}

// BringBack puts a file back as SetAside found it.
func (w *Work) BringBack(path, name string) error {
	noted := factAside.About(name)
	switch {
	case !noted.Known(w.Run):
		return nil
	case !noted.Of(w.Run):
		return files.Remove(path)
	}
	old, err := files.Read(w.Run.Journal.Aside(name), files.MostAside)
	if err != nil {
		return err
	}
	return files.WriteBy(path, w.BesideGit(name+".old"), old, 0o644)
}

// undoInit removes the .git that the attach made.
func (t *Target) undoInit(context.Context) error {
	if !FactMadeGit.Of(t.Run) {
		return nil
	}
	return files.RemoveAll(filepath.Join(t.Folder.Path, ".git"))
}

// undoIdentity takes out the name and e-mail that the attach set.
func (t *Target) undoIdentity(ctx context.Context) error {
	for _, key := range []string{"user.name", "user.email"} {
		var err error
		switch was := factSet.About(key); {
		case !was.Known(t.Run):
		case was.Of(t.Run) == nil:
			_, err = t.Folder.Repo.Do(ctx, "config", "--local", "--unset", key)
		default:
			_, err = t.Folder.Repo.Do(ctx, "config", "--local", key, *was.Of(t.Run))
		}
		if err != nil && git.Code(err) != 5 { // 5: it is not set
			return err
		}
	}
	return nil
}

// undoIgnore puts .gitignore back, or takes the attach's own rules out where it was changed
// since.
func (w *Work) undoIgnore(context.Context) error {
	path := filepath.Join(w.Folder.Path, ".gitignore")
	touched, err := w.Touched(path, "gitignore")
	if err == nil && !touched { // what the person wrote in it since stays
		err = w.BringBack(path, "gitignore")
	}
	if e := files.Remove(w.BesideGit("gitignore.new")); e != nil {
		err = errors.Join(err, e)
	}
	return err
}

// undoCommit takes the first commit back; every file stays.
func (w *Work) undoCommit(ctx context.Context) error {
	if FactMadeGit.Of(w.Run) {
		return nil // the whole of .git goes
	}
	if id := FactCommit.Of(w.Run); id != "" {
		ref := "refs/heads/" + FactBranch.Of(w.Run)
		if now, err := w.Folder.Repo.Resolve(ctx, ref); err == nil && now == id {
			if err := worktree.DropRef(ctx, w.Folder.Repo, ref, id); err != nil {
				return err
			}
		}
	}
	return w.BringBack(filepath.Join(w.Folder.Path, ".git", "index"), "index")
}

// undoTie takes the remote and its sign-in out again.
func (t *Target) undoTie(ctx context.Context) error {
	if err := project.Strike(ctx, t.Desk, t.Folder.Path, t.Options.Remote); err != nil {
		return err
	}
	if FactMadeGit.Of(t.Run) {
		return nil
	}
	if !t.Changed("config") {
		return nil // it was cut off before it changed anything
	}
	ours := FactNewRemote.Of(t.Run)
	if ours {
		if err := t.DropTracking(ctx); err != nil {
			return err
		}
	}
	path := filepath.Join(t.Folder.Path, ".git", "config")
	touched, err := t.Touched(path, "config")
	if err != nil {
		return err
	}
	switch {
	case !touched:
		return t.BringBack(path, "config")
	case ours:
		return Untie(ctx, t.Desk, t.Folder, t.Options.Remote)
	}
	h, err := t.standingTie(ctx)
	if err != nil || h == nil {
		return err
	}
	return git.Fault(h.DropIncludes(ctx), "git's configuration cannot be written")
}

// DropTracking deletes what git noted of the remote's branches.
func (w *Work) DropTracking(ctx context.Context) error {
	refs, err := w.Folder.Repo.Do(ctx, "for-each-ref", "--format=delete %(refname) %(objectname)", "refs/remotes/"+w.Options.Remote+"/")
	if err != nil || refs == "" {
		return git.Fault(err, "git cannot list the remote's branches")
	}
	_, err = w.Folder.Repo.Run(ctx, git.Cmd{Dir: w.Folder.Path, Args: []string{"update-ref", "--stdin"}, In: strings.NewReader(refs + "\n")})
	return git.Fault(err, "git cannot forget the remote's branches")
}

// Untie takes a remote, its sign-in and the branches' ties to it out of a
// repository's configuration, and nothing else.
func Untie(ctx context.Context, d *desk.Desk, f *project.Folder, remote string) error {
	h := &project.Tie{Desk: d, Repo: f.Repo, Remote: remote}
	if url := f.Remotes[remote]; url != "" {
		at, err := address.Parse(url)
		if err != nil {
			return err
		}
		h.Address = at
	}
	return git.Fault(h.Unset(ctx), "git's configuration cannot be written")
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
	_, err = t.Login.Do(ctx, "repository-delete", "delete "+there.Path(), login.RepositoryVars(there))
	return login.Lost(err, func() (bool, error) {
		_, found, err := t.made(ctx)
		return !found, err
	})
}

// undoSend deletes on the host the branches that this attach sent to an empty
// repository, each only while it is what was sent (git-push documentation,
// --force-with-lease). A host that lets no default branch be deleted keeps it.
func (t *Target) undoSend(ctx context.Context) error {
	h, err := t.standingTie(ctx)
	if err != nil || h == nil {
		return err
	}
	refs, err := project.Refs(ctx, t.Desk, h, "")
	if err != nil {
		return err
	}
	sent := FactSent.Things(t.Run)
	for _, branch := range slices.Sorted(maps.Keys(sent)) {
		id := sent[branch]
		was := FactThere.About(branch).Of(t.Run) // the commit that was there before; "" for none
		if refs.Branch(branch) != id || was == "" && !FactVacant.Of(t.Run) {
			continue
		}
		ref := "refs/heads/" + branch
		err := project.Push(ctx, t.Desk, h, project.Sending{Refs: []project.Sent{{From: was, To: ref, Was: id}}})
		if ctx.Err() != nil || fault.Is(err, fault.Unreachable) {
			return err
		}
		if err != nil {
			t.Desk.Tell.Note("Note: %s keeps the branch %s: %s", h.Address.String(), text.Visible(branch), strings.Join(append([]string{fault.Of(err).Says}, fault.Of(err).Details...), "; "))
		}
	}
	return nil
}

// standingTie is the tie as an unfinished attach set it; nil if it did not come to it.
func (t *Target) standingTie(ctx context.Context) (*project.Tie, error) {
	url := t.Folder.Remotes[t.Options.Remote]
	if url == "" {
		return nil, nil
	}
	at, err := address.Parse(url)
	if err != nil {
		return nil, err
	}
	h := &project.Tie{Desk: t.Desk, Repo: t.Folder.Repo, Folder: t.Folder, Remote: t.Options.Remote, Address: at}
	if t.Project.Account != "" {
		h.Account, err = accounts.Named(t.Desk, t.Project.Account)
	}
	return h, err
}

// undoDefault gives the hosted repository its former default branch again.
func (t *Target) undoDefault(ctx context.Context) error {
	account, err := accounts.Named(t.Desk, t.Project.Account)
	if err != nil {
		return err
	}
	if t.Login, err = login.Open(ctx, t.Desk, account); err != nil {
		return err
	}
	_, owner, name, err := hosts.Recognise(t.Desk, t.Project.Address)
	if err != nil {
		return err
	}
	there, found, err := t.Login.Repository(ctx, owner, name)
	if err != nil || !found {
		return err
	}
	return t.setDefault(ctx, there, factDefaultWas.Of(t.Run))
}
