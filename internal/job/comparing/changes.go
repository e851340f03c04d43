// Package comparing tells what differs, file by file and line by line: the files against the last
// commit, both sides of a branch, what one commit changed. It changes nothing.
package comparing

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/difference"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/desk"
	"uncinate/internal/desk/project"
	"uncinate/internal/desk/worktree"
	"uncinate/internal/job/claims"
	"uncinate/internal/job/history"
	"uncinate/internal/world/files"
	"uncinate/internal/world/git"
	"uncinate/internal/world/tree"
)

// ChangesOptions say what is to be compared.
type ChangesOptions struct {
	Folder string
	Paths  []string // files, folders or patterns from the project's top; none: all
	Side   string   // "" for the files against the last commit, "here" or "host" for what only one side's commits change
	Full   bool     // the differences themselves too
	Commit string   // what one commit changed, instead
	Branch string   // of the sides, the other one: a branch here or there; "" for this branch's counterpart on the host
}

// Changes is what differs.
type Changes struct {
	Folder string        `json:"folder"`
	Branch string        `json:"branch"`
	Commit string        `json:"commit,omitempty" says:"what this one changed"`
	Side   string        `json:"side,omitempty" says:"here or there: what the commits change that only that side has"`
	With   string        `json:"with,omitempty" says:"the branch that is the other side"`
	Files  []ChangedFile `json:"files"`

	Held  []claims.Held `json:"claimed,omitempty" says:"files among them that others have claimed, as far as is known here"`
	Patch string        `json:"-"` // the same as git writes it
}

// ChangedFile is one file that differs.
type ChangedFile struct {
	difference.File
	Bytes  int64  `json:"bytes,omitempty" says:"of a binary or large one: its size now"`
	Before int64  `json:"bytes_before,omitempty"`
	Is     string `json:"is,omitempty" says:"what a binary file holds, as a media type"`
	Large  bool   `json:"large,omitempty" says:"it is new and too large to be shown"`
}

// mostFresh is how large a new file may be, in bytes, to be shown in full.
const mostFresh = 1 << 20

// diffing is how git is asked for differences: nothing that a configuration names is run,
// and the form is always the same.
var diffing = []string{"diff", "--no-ext-diff", "--no-textconv", "--no-color", "--no-relative", "--ignore-submodules=dirty", "--src-prefix=a/", "--dst-prefix=b/", "--submodule=short", "-M", "--inter-hunk-context=0"}

// Compare compares the files with the last commit, or the two sides with each other as far
// as git knows the other one.
func Compare(ctx context.Context, d *desk.Desk, o ChangesOptions) (_ *Changes, err error) {
	f, err := worktree.LooseAt(ctx, d, o.Folder)
	if err != nil {
		return nil, err
	}
	if o.Branch != "" && o.Side == "" {
		o.Side = "host"
	}
	out := &Changes{Folder: f.Path, Branch: f.Branch, Side: o.Side, With: o.Branch, Files: []ChangedFile{}}
	args := append(slices.Clone(diffing), text.Either(o.Full, "-U3", "-U0"))
	before, now := f.Head, ""
	var env []string
	if before == "" {
		if before, err = worktree.EmptyTree(ctx, f); err != nil {
			return nil, err
		}
	}
	if o.Commit != "" {
		if before, now, err = ends(ctx, f, o.Commit); err != nil {
			return nil, err
		}
		out.Commit = now
		args = append(args, before, now)
	} else if o.Side != "" {
		if before, now, err = sides(ctx, d, f, o.Side, o.Branch); err != nil {
			return nil, err
		}
		args = append(args, before, now)
	} else {
		index, large, done, e := withNew(ctx, f)
		defer fault.Also(&err, done)
		if e != nil {
			return nil, e
		}
		env = []string{"GIT_INDEX_FILE=" + index}
		for _, p := range slices.Sorted(maps.Keys(large)) {
			out.Files = append(out.Files, ChangedFile{File: difference.File{Path: p, Kind: "new"}, Bytes: large[p], Large: true})
		}
		args = append(args, before)
	}
	patch, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, Args: append(args, "--"), Env: env})
	if err != nil {
		return nil, git.Fault(err, "git cannot tell the differences")
	}
	out.Patch = string(patch)
	if len(o.Paths) > 0 {
		wanted := survey.Named(o.Paths)
		out.Patch = partsAbout(out.Patch, wanted)
		out.Files = slices.DeleteFunc(out.Files, func(c ChangedFile) bool { return !wanted(c.Path) })
	}
	if err := errors.Join(out.parse(ctx, f, o, before, now), out.claimed(d, f, o)); err != nil {
		return nil, err
	}
	if len(o.Paths) > 0 && len(out.Files) == 0 && out.Commit == "" && out.Side == "" {
		if err := nothingAt(d, f, o.Paths); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Between tells what differs between two commits of a folder.
func Between(ctx context.Context, f *project.Folder, before, now string, full bool) (*Changes, error) {
	out := &Changes{Folder: f.Path, Commit: now, Files: []ChangedFile{}}
	args := append(slices.Clone(diffing), text.Either(full, "-U3", "-U0"), before, now, "--")
	patch, err := f.Repo.Run(ctx, git.Cmd{Dir: f.Path, Args: args})
	if err != nil {
		return nil, git.Fault(err, "git cannot tell the differences")
	}
	out.Patch = string(patch)
	return out, out.parse(ctx, f, ChangesOptions{Full: full}, before, now)
}

// parse reads the files of a patch.
func (out *Changes) parse(ctx context.Context, f *project.Folder, o ChangesOptions, before, now string) error {
	for _, x := range difference.Parse(out.Patch) {
		c := ChangedFile{File: x}
		if x.Binary {
			if err := binary(ctx, f, &c, before, now); err != nil {
				return err
			}
		}
		if !o.Full {
			c.Hunks = nil
		}
		out.Files = append(out.Files, c)
	}
	slices.SortStableFunc(out.Files, byKind)
	return nil
}

// claimed adds what others have claimed.
func (out *Changes) claimed(d *desk.Desk, f *project.Folder, o ChangesOptions) error {
	if o.Commit != "" || o.Side != "" {
		return nil
	}
	book, err := claims.Known(d, f)
	for _, c := range out.Files {
		if err == nil {
			out.Held = append(out.Held, book.Others([]string{c.Path})...)
		}
	}
	return err
}

// partsAbout leaves in a patch only what is about the wanted files.
func partsAbout(patch string, wanted func(path string) bool) string {
	var kept strings.Builder
	for part := range strings.SplitSeq("\n"+patch, "\ndiff --git ") {
		if one := difference.Parse("diff --git " + part + "\n"); len(one) == 1 && (wanted(one[0].Path) || one[0].From != "" && wanted(one[0].From)) {
			kept.WriteString("diff --git " + strings.TrimSuffix(part, "\n") + "\n")
		}
	}
	return kept.String()
}

// byKind is the order in which changed files are shown.
func byKind(a, b ChangedFile) int {
	order := []string{"clashing", "changed", "renamed", "deleted", "new"}
	return cmp.Or(slices.Index(order, a.Kind)-slices.Index(order, b.Kind), strings.Compare(a.Path, b.Path))
}

// ends gives a commit and what it came from: its first parent, or nothing.
func ends(ctx context.Context, f *project.Folder, commit string) (before, now string, err error) {
	if now, err = f.Repo.Do(ctx, "rev-parse", "-q", "--verify", "--end-of-options", commit+"^{commit}"); err != nil {
		return "", "", fault.New(fault.Failed, "there is no commit %s here", text.Visible(commit)).Try("see the commits", "uncinate history")
	}
	if before, err = f.Repo.Resolve(ctx, now+"^1"); err != nil {
		before, err = worktree.EmptyTree(ctx, f)
	}
	return before, now, err
}

// nothingAt says why nothing differs at the paths that were named; nil where they are there.
func nothingAt(d *desk.Desk, f *project.Folder, paths []string) error {
	for _, p := range paths {
		if files.Missing(filepath.Join(f.Path, filepath.FromSlash(p))) && !strings.ContainsAny(p, "*?[") {
			return fault.New(fault.Failed, "there is no %s in %s, and none that was deleted since the last commit", text.Visible(p), text.Visible(f.Path)).
				TryWithout("see all that differs", "uncinate changes", "full")
		}
	}
	return nil
}

// sides gives the two ends of what only one side's commits change. The other side is a
// branch, here or as far as it is known on the host; "" stands for this one's counterpart there.
func sides(ctx context.Context, d *desk.Desk, f *project.Folder, side, branch string) (from, to string, err error) {
	p, err := project.ProjectOf(ctx, d, f)
	if err != nil && branch == "" {
		return "", "", err
	}
	b, err := history.LookAtBranches(ctx, d, f)
	if err != nil {
		return "", "", err
	}
	theirs := b.Refs["refs/remotes/"+p.Remote+"/"+f.Branch]
	if branch != "" {
		if theirs, _, err = b.Newest(ctx, branch); err != nil {
			return "", "", err
		}
		theirs = cmp.Or(theirs, b.Refs["refs/remotes/"+branch])
	}
	if theirs == "" && branch != "" {
		return "", "", b.NoBranch(branch)
	} else if theirs == "" {
		return "", "", fault.New(fault.Decision, "nothing is known here of branch %s on the host", text.Visible(f.Branch)).Try("receive what there is", text.Command("uncinate", "sync", f.Path))
	}
	if f.Head == "" {
		return "", "", fault.New(fault.Decision, "there is no commit here yet")
	}
	base, err := f.Repo.Do(ctx, "merge-base", f.Head, theirs)
	if err != nil {
		return "", "", fault.New(fault.Decision, "the commits here and those there have no beginning in common, so neither side's changes can be told")
	}
	if side == "host" {
		return base, theirs, nil
	}
	return base, f.Head, nil
}

// withNew makes an index of its own in which the new files are noted, so that git shows
// them too; the project's stays as it is. Large ones are given apart; done removes the index.
func withNew(ctx context.Context, f *project.Folder) (index string, large map[string]int64, done func() error, err error) {
	if index, done, err = f.Repo.IndexCopy(); err != nil {
		return "", nil, done, err
	}
	list, err := f.Repo.Lines(ctx, "ls-files", "-z", "--others", "--exclude-standard")
	if err != nil {
		return index, nil, done, git.Fault(err, "git cannot tell what is new")
	}
	large = map[string]int64{}
	var names bytes.Buffer
	for _, p := range list {
		full := filepath.Join(f.Path, filepath.FromSlash(p))
		if size, _, err := files.Stamp(full); err == nil && files.KindOf(full) == files.Regular && size > mostFresh {
			large[p] = size
		} else if !strings.HasSuffix(p, "/") { // a repository inside
			names.WriteString(p + "\x00")
		}
	}
	if names.Len() == 0 {
		return index, large, done, nil
	}
	_, err = f.Repo.Run(ctx, git.Cmd{Dir: f.Path, In: &names, Env: []string{"GIT_INDEX_FILE=" + index, "GIT_LITERAL_PATHSPECS=1"},
		Args: []string{"add", "--intent-to-add", "--sparse", "--pathspec-from-file=-", "--pathspec-file-nul"}})
	return index, large, done, git.Fault(err, "git cannot look at the new files")
}

// binary finds the sizes of a file that is not text, and what it holds.
func binary(ctx context.Context, f *project.Folder, c *ChangedFile, before, now string) error {
	was := c.Path
	if c.From != "" {
		was = c.From
	}
	size := func(commit, p string) (int64, error) {
		out, err := f.Repo.Lines(ctx, "ls-tree", "-l", "-z", commit, "--", p)
		if err != nil {
			return 0, git.Fault(err, "git cannot tell the size of %s", text.Visible(p))
		}
		if fields := strings.Fields(strings.Join(out, " ")); len(fields) > 3 {
			return strconv.ParseInt(fields[3], 10, 64)
		}
		return 0, nil
	}
	var err error
	if c.Kind != "new" {
		if c.Before, err = size(before, was); err != nil {
			return err
		}
	}
	if now != "" {
		c.Bytes, err = size(now, c.Path)
		return err
	}
	in, err := tree.Open(f.Path, c.Path)
	if err != nil {
		return nil // deleted, or gone meanwhile
	}
	defer in.Close()
	if s, err := in.Stat(); err == nil {
		c.Bytes = s.Size()
	}
	head := make([]byte, 512)
	n, err := io.ReadFull(in, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && err != io.EOF {
		return nil
	}
	if c.Is = http.DetectContentType(head[:n]); c.Is == "application/octet-stream" {
		c.Is = ""
	}
	return nil
}
