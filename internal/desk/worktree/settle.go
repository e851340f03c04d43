package worktree

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/joining"
	"uncinate/internal/core/text"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// Decided is a clash and how it ends.
type Decided struct {
	Path   string        `json:"path"`
	Mine   joining.Entry `json:"mine"`
	Theirs joining.Entry `json:"theirs"`
	Way    string        `json:"way"`
	Beside string        `json:"beside,omitempty"` // where mine is put, the other side having the name
}

// Undecided is the fault about files that both sides hold, each something else.
type Undecided struct {
	*fault.Fault
	Paths []string
}

// Unwrap gives the fault.
func (u *Undecided) Unwrap() error { return u.Fault }

// entries reads the lines of git ls-tree.
func entries(lines []string) []joining.Entry {
	var out []joining.Entry
	for _, l := range lines {
		meta, p, _ := strings.Cut(l, "\t")
		if f := strings.Fields(meta); len(f) == 3 {
			out = append(out, joining.Entry{Mode: f[0], ID: f[2], Path: p})
		}
	}
	return out
}

// Standings gives what stands at each path of the lines of git ls-tree.
func Standings(lines []string) map[string]Standing {
	out := map[string]Standing{}
	for _, e := range entries(lines) {
		out[e.Path] = Standing{e.Mode, e.ID}
	}
	return out
}

// TreeOf lists the files of a commit or tree.
func TreeOf(ctx context.Context, repo *git.Repo, id string) ([]joining.Entry, error) {
	lines, err := repo.Lines(ctx, "ls-tree", "-r", "-z", "--full-tree", id)
	if err != nil {
		return nil, git.Fault(err, "git cannot list the files of %.10s", id)
	}
	out := entries(lines)
	slices.SortFunc(out, func(a, b joining.Entry) int { return strings.Compare(a.Path, b.Path) })
	return out, nil
}

// IndexOf gives what is staged in a project's index, by path (git-ls-files documentation, --stage).
func IndexOf(ctx context.Context, f *project.Folder) (map[string]Staged, error) {
	lines, err := f.Repo.Lines(ctx, "ls-files", "-s", "-z")
	if err != nil {
		return nil, git.Fault(err, "git's index cannot be read")
	}
	out := map[string]Staged{}
	for _, line := range lines {
		meta, p, found := strings.Cut(line, "\t")
		if x := strings.Fields(meta); found && len(x) == 3 {
			out[p] = Staged{Path: p, Mode: x[0], ID: x[1]}
		}
	}
	return out, nil
}

// RulesOf reads an ignore file that is there.
func RulesOf(ctx context.Context, repo *git.Repo, id string) (string, error) {
	data, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"cat-file", "blob", id}})
	if err != nil {
		return "", git.Fault(err, "their ignore rules cannot be read")
	}
	if len(data) > 1<<20 {
		return "", fault.New(fault.Refused, "their ignore rules are longer than a megabyte")
	}
	return string(data), nil
}

// MergeTrees tries a merge out without touching anything (git-merge-tree documentation,
// --write-tree). Where both sides hold something else at a path, the tree holds a text
// with marks, and the clash is told.
func MergeTrees(ctx context.Context, repo *git.Repo, mine, theirs string) (tree string, clashes []joining.Clash, err error) {
	out, err := repo.Run(ctx, git.Cmd{Dir: repo.Dir, Args: []string{"merge-tree", "--write-tree", "--allow-unrelated-histories", "--messages", "-z", mine, theirs}})
	if err != nil && git.Code(err) != 1 {
		return "", nil, git.Fault(err, "git cannot try the joining out")
	}
	parts := strings.Split(string(out), "\x00")
	tree = parts[0]
	byPath := map[string]*joining.Clash{}
	i := 1
	for ; i < len(parts) && parts[i] != ""; i++ {
		meta, p, ok := strings.Cut(parts[i], "\t")
		f := strings.Fields(meta)
		if !ok || len(f) != 3 {
			return "", nil, fault.New(fault.Failed, "git tells of a clash in a way that is not understood: %s", text.Excerpt(parts[i], 80))
		}
		if byPath[p] == nil {
			byPath[p] = &joining.Clash{Path: p}
		}
		switch e := (joining.Entry{Mode: f[0], ID: f[1], Path: p}); f[2] {
		case "2":
			byPath[p].Mine = e
		case "3":
			byPath[p].Theirs = e
		}
	}
	for i++; i < len(parts); { // messages: how many paths, the paths, the kind, the text
		n := 0
		if _, err := fmt.Sscan(parts[i], &n); err != nil || i+n+2 >= len(parts) {
			break
		}
		kind := parts[i+n+1]
		if strings.Contains(kind, "file/directory") || strings.Contains(kind, "distinct") || strings.Contains(kind, "rename") && strings.HasPrefix(kind, "CONFLICT") || strings.Contains(kind, "submodule") {
			p, _, _ := strings.Cut(parts[i+1], "~") // git puts a side's commit after it
			f := fault.New(fault.Decision, "the two sides cannot be joined by themselves at %s", text.Quote(p))
			if strings.Contains(kind, "file/directory") {
				f = fault.New(fault.Decision, "where one side has a file the other has a folder: %s", text.Quote(p))
			}
			return "", nil, f.Detail("Nothing was changed, here or there.").
				Try("give it another name here, commit that, and attach again", text.Command("git", "mv", "--", p, p+"-2"))
		}
		i += n + 3
	}
	for _, c := range byPath {
		clashes = append(clashes, *c)
	}
	slices.SortFunc(clashes, func(a, b joining.Clash) int { return strings.Compare(a.Path, b.Path) })
	return tree, clashes, nil
}

// IndexLines are entries for git update-index --index-info.
func IndexLines(entries []joining.Entry) string {
	var b strings.Builder
	for _, e := range entries {
		if e.ID == "" {
			fmt.Fprintf(&b, "0 %s\t%s\x00", strings.Repeat("0", 40), e.Path)
		} else {
			fmt.Fprintf(&b, "%s %s\t%s\x00", e.Mode, e.ID, e.Path)
		}
	}
	return b.String()
}

// MergeText is what a merge commit says.
func MergeText(branch, address string) string {
	return fmt.Sprintf("Merge branch '%s' of %s\n", branch, address)
}
