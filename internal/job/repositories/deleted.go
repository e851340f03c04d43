package repositories

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/plan"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/accounts"
	"uncinate/internal/desk/login"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/web"
)

// Before a repository is deleted on its host, all its refs are received into a bare repository of our
// own on this machine, from which it can be brought back.

// Deleted is a copy that was kept before a repository was deleted.
type Deleted struct {
	Path       string    `json:"repository"`
	Host       string    `json:"host"`
	When       time.Time `json:"when"`
	Until      time.Time `json:"until" says:"when it goes by itself"`
	Branch     string    `json:"default_branch,omitempty"`
	Visibility string    `json:"visibility,omitempty"`
	About      string    `json:"description,omitempty"`
	Branches   int       `json:"branches"`
	Tags       int       `json:"tags"`
	At         string    `json:"at" says:"the folder of the copy, a bare repository"`
}

func deletedAt(d *desk.Desk) string { return filepath.Join(d.Home.State, "deleted") }

// about is the file beside a copy that tells of it.
const about = "about.json"

// AllDeleted lists the copies, the newest first; those whose time is over go.
func AllDeleted(d *desk.Desk) ([]Deleted, error) {
	names, err := files.Names(deletedAt(d))
	if err != nil {
		return nil, err
	}
	all := []Deleted{}
	for _, n := range names {
		var x Deleted
		found, err := files.ReadJSON(filepath.Join(deletedAt(d), n, about), &x)
		if err != nil {
			return nil, err
		}
		if !found {
			continue // it is being made, or was cut off as it was made
		}
		if x.Until.Before(d.Now()) {
			if err := files.RemoveAll(filepath.Join(deletedAt(d), n)); err != nil {
				return nil, err
			}
			continue
		}
		x.At = filepath.Join(deletedAt(d), n, "it.git")
		all = append(all, x)
	}
	slices.SortFunc(all, func(a, b Deleted) int { return cmp.Or(b.When.Compare(a.When), strings.Compare(a.Path, b.Path)) })
	return all, nil
}

// TieTo is the way to a hosted repository by which git receives it, without a project.
func TieTo(d *desk.Desk, l *login.Login, r description.Repository) (*project.Tie, error) {
	h := &project.Tie{Desk: d, Account: l.Account}
	to := r.HTTPS // the token that deletes it signs in
	if to == "" {
		key, err := accounts.KeyOf(d, l.Account.Name, accounts.KeyInForce)
		if err != nil {
			return nil, err
		}
		if key == nil {
			return nil, accounts.NoKey(d, l.Account)
		}
		h.Key, to = key, r.SSH
	}
	at, err := address.Parse(to)
	if err != nil {
		return nil, err
	}
	h.Address = at
	return h, nil
}

// stepCopy receives all refs of a repository before it is deleted.
func stepCopy(d *desk.Desk, l *login.Login, r description.Repository) (desk.Step, error) {
	set, err := d.Settings()
	if err != nil {
		return desk.Step{}, err
	}
	days := set.Kept()
	dir := filepath.Join(deletedAt(d), files.Short(l.Host.Name+" "+r.ID+" "+r.Path()))
	return desk.Step{Item: plan.Item{ID: "copy", Place: plan.Here, Sentence: fmt.Sprintf("Keep all its branches and tags in a rescue copy on this machine, for %d days", days)},
		Do: func(ctx context.Context) error {
			told, store, err := receiveAll(ctx, d, l, r, filepath.Join(dir, "it.git"))
			if err != nil {
				f := *fault.Of(err)
				return f.Detail("So nothing was deleted.").TryWithout("delete it without a copy", text.Command("uncinate", "repository", "delete", r.Path(), "--account", l.Account.Name, "--without-copy"))
			}
			x := Deleted{Path: r.Path(), Host: l.Host.Name, When: d.Now().UTC().Truncate(time.Second), Branch: cmp.Or(told.Head, r.DefaultBranch), Visibility: r.Visibility, About: r.Description}
			x.Until = x.When.Add(time.Duration(days) * 24 * time.Hour)
			x.Branches, x.Tags = counted(told)
			if len(told.IDs) > 0 {
				if _, err := store.Do(ctx, "fsck", "--connectivity-only", "--no-dangling", "--no-progress"); err != nil {
					return git.Fault(err, "the rescue copy of %s is not whole, so nothing was deleted", r.Path())
				}
			}
			return files.WriteJSON(filepath.Join(dir, about), x)
		}}, nil
}

// receiveAll receives all refs, and makes sure that none is missing.
func receiveAll(ctx context.Context, d *desk.Desk, l *login.Login, r description.Repository, dir string) (web.Refs, *git.Repo, error) {
	g, err := d.Git(ctx)
	if err != nil {
		return web.Refs{}, nil, err
	}
	h, err := TieTo(d, l, r)
	if err != nil {
		return web.Refs{}, nil, err
	}
	h.Repo = g.In(d.Home.State)
	told, err := project.Refs(ctx, d, h, "")
	if err != nil {
		return told, nil, err
	}
	digits := 40
	for _, id := range told.IDs {
		digits = len(id)
	}
	if files.KindOf(dir) == files.None {
		if err := project.MakeStore(dir, digits, ""); err != nil {
			return told, nil, fault.New(fault.Failed, "the place for a rescue copy cannot be made: %s", files.Plain(err)).Because(err)
		}
	}
	store := project.Store(g, dir)
	if len(told.IDs) == 0 {
		return told, store, nil
	}
	if err := h.WriteInclude(ctx); err != nil {
		return told, nil, err
	}
	_, err = store.Works().Run(ctx, git.Cmd{Config: h.Config(), Stall: git.Stall, Watch: project.Watch(d, "Receiving", "Receiving objects"),
		Args: []string{"fetch", "--progress", "--prune", "--no-write-fetch-head", "--no-auto-maintenance", "--recurse-submodules=no", "--refmap=", "--", h.Address.String(), "+refs/*:refs/*"}})
	d.Tell.Progress("Receiving", 0, 0, "")
	if err != nil {
		return told, nil, git.Fault(err, "what %s holds cannot be received", r.Path())
	}
	has, err := git.ReadRefs(dir)
	if err != nil {
		return told, nil, err
	}
	for ref, id := range told.IDs {
		if ref != "HEAD" && !strings.HasSuffix(ref, "^{}") && has[ref] != id {
			return told, nil, fault.New(fault.Decision, "somebody sent to %s meanwhile", r.Path()).Try("do it again", text.Command("uncinate", "repository", "delete", r.Path(), "--account", l.Account.Name))
		}
	}
	return told, store, nil
}

// Restored is what was brought back of a deleted repository.
type Restored struct {
	Deleted
	Folder string `json:"folder" says:"the new folder"`
}

// BringDeleted makes a folder of a copy that was kept before a repository was deleted: with all its
// branches and tags, and attached to nothing.
func BringDeleted(ctx context.Context, d *desk.Desk, name, into string) (_ *Restored, err error) {
	all, err := AllDeleted(d)
	if err != nil {
		return nil, err
	}
	var paths []string
	for _, x := range all {
		paths = append(paths, x.Path)
	}
	i := slices.IndexFunc(all, func(x Deleted) bool { return x.Path == name || strings.HasSuffix(x.Path, "/"+name) })
	if i < 0 {
		f := fault.New(fault.Failed, "there is no rescue copy of a deleted repository %s", text.Visible(name))
		if near := text.Nearest(name, paths); near != "" {
			f.Detail("Did you mean %s?", text.Visible(near))
		}
		return nil, f.Try("see those that there are", "uncinate rescue list --deleted")
	}
	x := all[i]
	if into == "" {
		into = x.Path[strings.LastIndexByte(x.Path, '/')+1:]
	}
	folder, err := filepath.Abs(into)
	if err != nil {
		return nil, err
	}
	if !files.Missing(folder) {
		return nil, fault.New(fault.Decision, "there is something at %s already", text.Visible(folder)).Try("name another folder", text.Command("uncinate", "rescue", "bring", "--deleted", x.Path, "--into", into+"-2"))
	}
	g, err := d.Git(ctx)
	if err != nil {
		return nil, err
	}
	fresh, done, err := files.ScratchIn(filepath.Dir(folder), ".uncinate-bring-")
	if err != nil {
		return nil, fault.New(fault.Failed, "the folder %s cannot be made: %s", text.Visible(folder), files.Plain(err)).Because(err)
	}
	defer func() { err = errors.Join(err, done()) }()
	made := filepath.Join(fresh, "it")
	branch := cmp.Or(x.Branch, "main")
	run := func(args ...string) error {
		if err == nil {
			_, err = g.In(made).Works().Do(ctx, args...)
		}
		return err
	}
	if err = files.MakeFolder(made, 0o777); err == nil {
		err = run("init", "-q", "-b", branch)
	}
	if err == nil && x.Branches+x.Tags > 0 {
		err = run("fetch", "-q", "--update-head-ok", "--no-write-fetch-head", "--", x.At, "+refs/heads/*:refs/heads/*", "+refs/tags/*:refs/tags/*")
	}
	if err == nil && x.Branches > 0 {
		err = run("reset", "-q", "--hard", "refs/heads/"+branch)
	}
	if err == nil {
		err = files.Move(made, folder)
	}
	return &Restored{x, folder}, git.Fault(err, "the rescue copy of %s cannot be brought back", x.Path)
}
