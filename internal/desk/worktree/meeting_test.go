package worktree

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/clashing"
	"uncinate/internal/desk/desktest"
	"uncinate/internal/desk/project"
	"uncinate/internal/world/git"
)

// drawnFiles draws what a commit holds, from what another held: changes, renames, links, modes, files
// that become folders and the reverse.
func drawnFiles(r *rand.Rand, from map[string]string) map[string]string {
	out := maps.Clone(from)
	names := []string{"a", "b", "c", "a/x", "a/y", "d/x", "d/y", "e/x", "A", "odd name"}
	put := func(p, s string) {
		maps.DeleteFunc(out, func(q, _ string) bool { return strings.HasPrefix(q, p+"/") || strings.HasPrefix(p, q+"/") })
		out[p] = s
	}
	for range 4 {
		p := names[r.IntN(len(names))]
		here := slices.Sorted(maps.Keys(out))
		switch n := r.IntN(10); {
		case n < 2 || len(here) == 0:
			put(p, fmt.Sprintf("f%s\nnew %d\n", strings.Repeat("\nline", 12), r.IntN(5)))
		case n < 5:
			q := here[r.IntN(len(here))]
			lines := strings.SplitAfter(out[q], "\n")
			lines[r.IntN(len(lines))] = fmt.Sprintf("changed %d\n", r.IntN(5))
			out[q] = strings.Join(lines, "")
		case n < 8:
			q := here[r.IntN(len(here))]
			s := out[q]
			delete(out, q)
			put(p, s)
		case n < 9:
			delete(out, here[r.IntN(len(here))])
		default:
			put(p, []string{"l:a", "l:b", "x:f\nnew 1\n", "\x00binary " + p}[r.IntN(4)])
		}
	}
	return out
}

// imported writes three commits at once (git-fast-import documentation).
func imported(t *testing.T, f *project.Folder, base, mine, theirs map[string]string) {
	t.Helper()
	var in strings.Builder
	for _, c := range []struct {
		name  string
		files map[string]string
	}{{"base", base}, {"mine", mine}, {"theirs", theirs}} {
		fmt.Fprintf(&in, "commit refs/heads/%s\ncommitter Tern <tern@skerry.example> 1740000000 +0000\ndata 2\nx\n", c.name)
		if c.name != "base" {
			in.WriteString("from refs/heads/base\ndeleteall\n")
		}
		for p, s := range c.files {
			mode := "100644"
			if kind, rest, found := strings.Cut(s, ":"); found && (kind == "l" || kind == "x") {
				mode, s = map[string]string{"l": "120000", "x": "100755"}[kind], rest
			}
			fmt.Fprintf(&in, "M %s inline %s\ndata %d\n%s\n", mode, strconv.Quote(p), len(s), s)
		}
	}
	c := exec.Command("git", "-C", f.Path, "fast-import", "--quiet", "--force")
	c.Stdin = strings.NewReader(in.String())
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
}

// TestDrawnMeetings meets drawn commits, decides what clashes in drawn ways, and looks at what comes of
// it: at the paths of a clash the files are as the side that was chosen has them, everything else is
// as git merged it, and nothing holds a mark or a name that git made up.
func TestDrawnMeetings(t *testing.T) {
	f, run := woven(t)
	d, _ := desktest.New(t)
	rounds, seed := 12, uint64(1)
	if os.Getenv("UNCINATE_SOAK") != "" {
		rounds, seed = 3000, rand.Uint64()
	}
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 0))
	clashes := 0
	for round := range rounds {
		base := drawnFiles(r, drawnFiles(r, map[string]string{"kept": "kept\n"}))
		mine, theirs := drawnFiles(r, base), drawnFiles(r, base)
		imported(t, f, base, mine, theirs)
		w, done, err := f.Repo.Aside(t.Context())
		require.NoError(t, err)
		m, err := Meet(t.Context(), f, w, "", run("rev-parse", "mine"), run("rev-parse", "theirs"))
		require.NoError(t, err, "round %d: %q %q %q", round, base, mine, theirs)
		clashes += len(m.Clashes)
		decided := &Decisions{desk: d, folder: f, kept: Stopped{Ways: map[string]clashing.Decision{}}}
		for _, c := range m.Clashes {
			decided.kept.Ways[c.Key()] = clashing.Decision{Way: []string{"mine", "theirs", "both"}[r.IntN(3)]}
		}
		git, err := filesOf(t.Context(), w, m.Tree)
		require.NoError(t, err)
		got, err := m.Decide(t.Context(), d, f, w, decided)
		require.NoError(t, err, "round %d: %q %q %q", round, base, mine, theirs)
		holdsTo(t, w, m, got, git, decided, fmt.Sprintf("round %d of seed %d: %q %q %q", round, seed, base, mine, theirs))
		require.NoError(t, done())
	}
	assert.Greater(t, clashes, rounds/2)
}

// holdsTo compares a tree with what was decided.
func holdsTo(t *testing.T, w *git.Weaver, m *Meeting, got *Together, merged clashing.Tree, decided *Decisions, about string) {
	t.Helper()
	result, err := filesOf(t.Context(), w, got.Tree)
	require.NoError(t, err)
	mine, err := filesOf(t.Context(), w, m.Mine)
	require.NoError(t, err)
	theirs, err := filesOf(t.Context(), w, m.Theirs)
	require.NoError(t, err)
	met := map[string]bool{}
	for _, c := range m.Clashes {
		way, _ := decided.Of(c)
		side := theirs
		if way.Way == "mine" || way.Way == "both" && len(c.Theirs) == 0 {
			side = mine
		}
		for _, p := range c.Paths {
			met[p] = true
			require.Equal(t, side[p], result[p], "%s: %s decided by %s", about, p, way.Way)
		}
		if way.Way != "both" || len(c.Theirs) == 0 {
			continue
		}
		for _, e := range c.Mine { // ours is beside, or the other side has it, or it was no work of ours
			held := slices.ContainsFunc(got.Beside, func(b Beside) bool { return b.Path == e.Path && b.ID == e.ID }) ||
				slices.ContainsFunc(slices.Concat(c.Theirs, c.Base), func(x clashing.Entry) bool { return x.ID == e.ID })
			require.True(t, held, "%s: %s is nowhere", about, e.Path)
		}
	}
	for p, e := range result {
		require.False(t, strings.Contains(p, "~"), "%s: %s", about, p)
		if !met[p] {
			require.Equal(t, merged[p], e, "%s: %s merges by itself", about, p)
		}
	}
	for p := range merged {
		require.True(t, result[p].ID != "" || met[p] || strings.Contains(p, "~"), "%s: %s is gone", about, p)
	}
	marked, err := w.Do(t.Context(), "", nil, "grep", "-l", "-e", "^<<<<<<<", got.Tree)
	require.Equal(t, 1, git.Code(err), "%s: marks in %s", about, marked)
}
