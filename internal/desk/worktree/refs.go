package worktree

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"slices"
	"strings"

	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
)

// DropRef removes a ref that is at an object, if it is there still. Callers kept a copy
// of what only it leads to, or brought it in themselves.
func DropRef(ctx context.Context, repo *git.Repo, ref, id string) error {
	_, err := repo.Do(ctx, "update-ref", "-d", ref, id)
	return git.Fault(err, "git cannot remove %s", text.Visible(ref))
}

// DropBranch removes a branch, and what git is set to about it. Callers kept a copy as of DropRef.
func DropBranch(ctx context.Context, repo *git.Repo, name string) error {
	_, err := repo.Do(ctx, "branch", "-q", "-D", "--", name)
	return git.Fault(err, "git cannot remove the branch %s", text.Visible(name))
}

// EmptyTree is the id of a tree without files, in the repository's object format.
func EmptyTree(ctx context.Context, f *project.Folder) (string, error) {
	id, err := f.Repo.Do(ctx, "hash-object", "-t", "tree", "--stdin")
	return id, git.Fault(err, "git cannot compare both sides")
}

// First lays the files of a branch of the host out in a new copy, and checks the branch out. What
// is in the folder already, of a run that was cut off or of somebody else, goes through the gate.
func First(ctx context.Context, d *desk.Desk, f *project.Folder, branch, track string) error {
	work, err := f.Work()
	if err != nil {
		return err
	}
	names, err := files.Names(f.Path)
	if err != nil {
		return err
	}
	if len(names) <= 1 { // .git alone
		_, err := work.Run(ctx, git.Cmd{Args: []string{"checkout", "--progress", "--no-overwrite-ignore", "-B", branch, "--track", track}, Watch: project.Watch(d, "Writing files", "Updating files")})
		d.Tell.Progress("Writing files", 0, 0, "")
		return git.Fault(err, "git cannot write the files of branch %s", text.Visible(branch))
	}
	at, err := f.Repo.Resolve(ctx, track)
	if err == nil {
		_, err = f.Repo.Do(ctx, "branch", "-q", "-f", "--track", branch, track)
	}
	if err != nil {
		return git.Fault(err, "git cannot make the branch %s", text.Visible(branch))
	}
	if _, err := Heal(ctx, d, f); err != nil {
		return err
	}
	empty, err := EmptyTree(ctx, f)
	if err != nil {
		return err
	}
	head, err := f.Repo.Resolve(ctx, "HEAD^{commit}")
	if err != nil && git.Code(err) != 1 {
		return git.Fault(err, "git cannot tell the commit")
	}
	_, err = Lay(ctx, d, f, Laying{Before: "clone", From: empty, To: at, Head: head, Switch: branch, Fresh: true})
	return err
}

// KeepTracked keeps a rescue copy of what git knows of a remote's branches and no branch or tag
// here holds, before that is forgotten: the host may have it no more. It gives the copy's number.
func KeepTracked(ctx context.Context, d *desk.Desk, f *project.Folder, remote, before string) (int, error) {
	r, err := RescuerOf(d, f)
	if err != nil {
		return 0, err
	}
	refs, err := f.Repo.LocalRefs(ctx, r.Common)
	if err != nil {
		return 0, git.Fault(err, "git cannot list the branches")
	}
	var going []Moving
	var held []string
	for ref, id := range refs {
		switch {
		case strings.HasPrefix(ref, "refs/remotes/"+remote+"/") && ref != "refs/remotes/"+remote+"/HEAD":
			going = append(going, Moving{Ref: ref, ID: id})
		case strings.HasPrefix(ref, "refs/heads/"), strings.HasPrefix(ref, "refs/tags/"):
			held = append(held, "^"+id)
		}
	}
	slices.SortFunc(going, func(a, b Moving) int { return strings.Compare(a.Ref, b.Ref) })
	var keep []Moving
	for _, m := range going {
		in := strings.Join(append([]string{m.ID}, held...), "\n") + "\n"
		out, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, In: strings.NewReader(in), Args: []string{"rev-list", "--count", "-1", "--stdin"}})
		if err != nil {
			return 0, git.Fault(err, "git cannot tell what would be lost with %s", text.Visible(m.Ref))
		}
		if strings.TrimSpace(string(out)) != "0" {
			keep, held = append(keep, m), append(held, "^"+m.ID) // what it leads to needs no other copy
		}
	}
	logged, err := OnlyInLogs(ctx, f, r.Common, going, held)
	if err != nil {
		return 0, err
	}
	return r.KeepAll(ctx, Kept{Before: before, Refs: append(keep, logged...)})
}

// OnlyKnown gives what git knows of a branch of the host, or once knew, as its log tells, and what no
// ref here leads to: it goes with what git notes of that branch. kept are refs that are seen to already.
func OnlyKnown(ctx context.Context, f *project.Folder, refs map[string]string, track string, kept []Moving) ([]Moving, error) {
	now := Moving{Ref: track, ID: refs[track]}
	if now.ID == "" {
		return nil, nil
	}
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return nil, err
	}
	var held []string
	for ref, id := range refs {
		if ref != track {
			held = append(held, "^"+id)
		}
	}
	for _, m := range kept {
		held = append(held, "^"+m.ID)
	}
	var out []Moving
	left, err := f.Repo.Run(ctx, git.Cmd{In: strings.NewReader(strings.Join(append(held, now.ID), "\n") + "\n"), Args: []string{"rev-list", "--count", "-1", "--stdin"}})
	if err != nil {
		return nil, git.Fault(err, "git cannot tell what would be lost with %s", text.Visible(track))
	}
	if strings.TrimSpace(string(left)) != "0" {
		out, held = append(out, now), append(held, "^"+now.ID)
	}
	logged, err := OnlyInLogs(ctx, f, common, []Moving{now}, held)
	return append(out, logged...), err
}

// OnlyInLogs gives what the logs of refs that go tell of and nothing holds that stays: commits that the
// host had once, and that were overwritten there. held are those that stay, as git-rev-list leaves them
// out: "^ID".
func OnlyInLogs(ctx context.Context, f *project.Folder, common string, going []Moving, held []string) ([]Moving, error) {
	var out []Moving
	for _, m := range going {
		data, err := files.Read(filepath.Join(common, "logs", filepath.FromSlash(m.Ref)), mostLog)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		var ids []string
		for line := range strings.Lines(string(data)) {
			words := strings.Fields(line)
			for _, id := range words[:min(2, len(words))] { // before, and after
				if git.IsID(id) && strings.Trim(id, "0") != "" {
					ids = append(ids, id)
				}
			}
		}
		slices.Reverse(ids)
		for n := 1; len(ids) > 0; n++ {
			left, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, In: strings.NewReader(strings.Join(append(slices.Clone(ids), held...), "\n") + "\n"), Args: []string{"rev-list", "--ignore-missing", "--stdin"}})
			if err != nil {
				return nil, git.Fault(err, "git cannot tell what would be lost with %s", text.Visible(m.Ref))
			}
			lost := strings.Fields(string(left))
			at := slices.IndexFunc(ids, func(id string) bool { return slices.Contains(lost, id) })
			if at < 0 {
				break
			}
			out, held = append(out, Moving{Ref: fmt.Sprintf("%s-before-%d", m.Ref, n), ID: ids[at]}), append(held, "^"+ids[at])
			ids = ids[at+1:]
		}
	}
	return out, nil
}

// SettleLog gives a branch the log that it had under its former name, where git was killed while it
// renamed the branch and left it aside (git's files backend, TMP_RENAMED_LOG).
func SettleLog(f *project.Folder, branch string) error {
	_, common, err := git.Folders(f.Path)
	if err != nil {
		return err
	}
	left := filepath.Join(common, "logs", "refs", ".tmp-renamed-log")
	before, err := files.Read(left, mostLog)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	at := filepath.Join(common, "logs", "refs", "heads", filepath.FromSlash(branch))
	since, err := files.Read(at, mostLog)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := files.Write(at, append(before, since...), 0o644); err != nil {
		return err
	}
	return files.Remove(left)
}

const mostLog = 256 << 20 // bytes of a branch's log
