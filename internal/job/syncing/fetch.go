package syncing

import (
	"context"
	"errors"
	"maps"
	"slices"
	"strings"

	"uncinate/internal/core/histories"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/world/git"
)

// spec is one line of what git receives from a remote, and where to (git-fetch
// documentation, "<refspec>").
type spec struct{ from, to string }

// specs gives the remote's, or the usual one.
func (s *Sync) specs() []spec {
	var out []spec
	for _, x := range s.folder.Settings {
		if x.Key == "remote."+s.tie.Remote+".fetch" {
			if from, to, found := strings.Cut(strings.TrimPrefix(x.Value, "+"), ":"); found && strings.HasPrefix(from, "refs/heads/") {
				out = append(out, spec{from, to})
			}
		}
	}
	if len(out) == 0 {
		out = []spec{{"refs/heads/*", "refs/remotes/" + s.tie.Remote + "/*"}}
	}
	return out
}

// match gives what a ref on one side is called on the other; "" where the spec is not about it.
func match(pattern, other, ref string) string {
	before, after, star := strings.Cut(pattern, "*")
	if !star {
		if ref == pattern {
			return other
		}
		return ""
	}
	if len(ref) < len(before)+len(after) || !strings.HasPrefix(ref, before) || !strings.HasSuffix(ref, after) {
		return ""
	}
	return strings.Replace(other, "*", ref[len(before):len(ref)-len(after)], 1)
}

// track gives the ref by which git knows a branch of the host; "" where it is not followed.
func (s *Sync) track(branch string) string {
	for _, x := range s.specs() {
		if ref := match(x.from, x.to, "refs/heads/"+branch); ref != "" {
			return ref
		}
	}
	if branch == s.folder.Branch {
		return "refs/remotes/" + s.tie.Remote + "/" + branch
	}
	return ""
}

// fetch receives what the host has and git does not know, if there is anything. What git
// knows of the host is never moved to another history before a rescue copy of it is kept.
func (s *Sync) fetch(ctx context.Context) error {
	var err error
	if s.tracked, err = s.folder.Repo.LocalRefs(ctx, s.rescuer.Common); err != nil {
		return git.Fault(err, "git cannot list what it knows of the host")
	}
	if s.news() {
		fresh := slices.DeleteFunc(project.TagNames(s.refs), func(ref string) bool { return s.tracked[ref] != "" })
		if err := s.bring(ctx, s.fetchWords(s.specs())); err != nil {
			return err
		}
		if err := s.came(ctx, fresh); err != nil {
			return err
		}
	}
	return s.prune(ctx)
}

// came notes which of the tags that were not here are here now: git brings those that lead
// to what it has (git-fetch documentation, --tags).
func (s *Sync) came(ctx context.Context, fresh []string) error {
	if len(fresh) == 0 {
		return nil
	}
	now, err := s.folder.Repo.LocalRefs(ctx, s.rescuer.Common)
	if err != nil {
		return git.Fault(err, "git cannot list its tags")
	}
	for _, ref := range fresh {
		if now[ref] != "" {
			s.Tags = append(s.Tags, strings.TrimPrefix(ref, "refs/tags/"))
		}
	}
	return nil
}

// news reports whether the host has anything that git does not know.
func (s *Sync) news() bool {
	tags := !slices.ContainsFunc(s.folder.Settings, func(x git.Setting) bool {
		return x.Key == "remote."+s.tie.Remote+".tagopt" && x.Value == "--no-tags"
	})
	tags = tags && project.TagsOf(s.refs) != project.TagsSeen(s.rescuer.Common)
	for ref, id := range s.refs.IDs {
		if b, is := strings.CutPrefix(ref, "refs/heads/"); is {
			if t := s.track(b); t != "" && s.tracked[t] != id {
				return true
			}
		} else if strings.HasPrefix(ref, "refs/tags/") && !strings.HasSuffix(ref, "^{}") && tags && s.tracked[ref] == "" {
			return true
		}
	}
	return false
}

// fetchWords are the words of a fetch that moves nothing to another history.
func (s *Sync) fetchWords(all []spec) []string {
	var out []string
	for _, x := range all {
		out = append(out, x.from+":"+x.to)
	}
	if own := s.track(s.folder.Branch); own != "" && s.refs.Branch(s.folder.Branch) != "" && !slices.ContainsFunc(all, func(x spec) bool { return match(x.from, x.to, "refs/heads/"+s.folder.Branch) != "" }) {
		out = append(out, "refs/heads/"+s.folder.Branch+":"+own)
	}
	return out
}

// bring runs the fetch, and a second one for what was rewritten there.
func (s *Sync) bring(ctx context.Context, words []string) error {
	run := func(words []string) error {
		args := append([]string{"fetch", "--progress", "--no-auto-maintenance", "--refmap=", "--", s.tie.Remote}, words...)
		work, err := s.folder.Work()
		if err != nil {
			return err
		}
		_, err = work.Run(ctx, git.Cmd{Config: s.tie.Shared(), Args: args, Stall: git.Stall, Watch: project.Watch(s.desk, "Receiving", "Receiving objects")})
		s.desk.Tell.Progress("Receiving", 0, 0, "")
		return err
	}
	if err := s.folder.SweepPacks(); err != nil {
		return err
	}
	failed := run(words)
	if ctx.Err() != nil {
		return ctx.Err()
	}
	now, err := s.folder.Repo.LocalRefs(ctx, s.rescuer.Common)
	if err != nil {
		return err
	}
	var moved []worktree.Moving
	var forced []string
	for _, ref := range slices.Sorted(maps.Keys(s.refs.IDs)) {
		id := s.refs.IDs[ref]
		b, is := strings.CutPrefix(ref, "refs/heads/")
		t := s.track(b)
		if !is || t == "" || now[t] == id || now[t] != s.tracked[t] {
			continue
		}
		if now[t] == "" || failed == nil {
			return s.unbrought(ctx, failed)
		}
		if _, err := s.folder.Repo.Do(ctx, "cat-file", "-e", id+"^{commit}"); err != nil {
			return s.unbrought(ctx, failed) // it did not come that far
		}
		moved = append(moved, worktree.Moving{Ref: t, ID: now[t], Next: id})
		forced = append(forced, "+"+ref+":"+t)
	}
	if len(moved) == 0 {
		if failed != nil {
			return s.unbrought(ctx, failed)
		}
		return nil
	}
	n, err := s.rescuer.Keep(ctx, "sync (the host's old branch)", moved, nil)
	if err != nil {
		return err
	}
	if n > 0 {
		s.rescued = append(s.rescued, n)
	}
	if err := run(forced); err != nil {
		return s.unbrought(ctx, err)
	}
	return nil
}

// unbrought finds the cause of a fetch that failed.
func (s *Sync) unbrought(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	if err == nil {
		err = errors.New("the host's branches moved while they were received")
	}
	if _, look := project.Refs(ctx, s.desk, s.tie, ""); look != nil {
		return look
	}
	return git.Fault(err, "git could not receive from %s", s.tie.Address.String())
}

// prune tells which branches are no longer there, and takes what git knew of them out
// where git is set to (git-config documentation, fetch.prune, remote.<name>.prune).
func (s *Sync) prune(ctx context.Context) error {
	set := false
	for _, x := range s.folder.Settings {
		if x.Key == "fetch.prune" || x.Key == "remote."+s.tie.Remote+".prune" {
			set = x.True()
		}
	}
	var gone []worktree.Moving
	for _, ref := range slices.Sorted(maps.Keys(s.tracked)) {
		id := s.tracked[ref]
		for _, x := range s.specs() {
			there := match(x.to, x.from, ref)
			b, is := strings.CutPrefix(there, "refs/heads/")
			if is && s.refs.IDs[there] == "" && b != "HEAD" {
				s.Gone = append(s.Gone, b)
				gone = append(gone, worktree.Moving{Ref: ref, ID: id})
				break
			}
		}
	}
	slices.Sort(s.Gone)
	if !set || len(gone) == 0 || s.refs.Empty() {
		return nil
	}
	var held []string
	for ref, id := range s.tracked {
		if !slices.ContainsFunc(gone, func(m worktree.Moving) bool { return m.Ref == ref }) {
			held = append(held, "^"+id)
		}
	}
	logged, err := worktree.OnlyInLogs(ctx, s.folder, s.rescuer.Common, gone, held)
	if err != nil {
		return err
	}
	n, err := s.rescuer.Keep(ctx, "sync (branches that are no longer on the host)", slices.Concat(gone, logged), nil)
	if err != nil {
		return err
	}
	if n > 0 {
		s.rescued = append(s.rescued, n)
	}
	for _, m := range gone {
		if err := worktree.DropRef(ctx, s.folder.Repo, m.Ref, m.ID); err != nil {
			return err
		}
	}
	return nil
}

// overwritten lists the refs that the plan moves to another history.
func (s *Sync) overwritten() []worktree.Moving {
	if s.need == histories.Replay || s.need == histories.Take {
		return []worktree.Moving{{Ref: "refs/heads/" + s.stand.Branch, ID: s.stand.Ours, Next: s.stand.Theirs}}
	}
	return nil
}
