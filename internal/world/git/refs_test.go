package git

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// made is a repository with branches, tags, a remote's refs and packed ones.
func made(t *testing.T) *Repo {
	t.Helper()
	dir := t.TempDir()
	t.Setenv("GIT_CONFIG_GLOBAL", os.DevNull)
	t.Setenv("GIT_CONFIG_NOSYSTEM", "1")
	for _, args := range [][]string{{"init", "-q", "-b", "main"}, {"config", "user.name", "T"}, {"config", "user.email", "t@skerry.example"},
		{"commit", "-q", "--allow-empty", "-m", "one"}, {"branch", "side/deep"}, {"tag", "-a", "v1", "-m", "v1"}, {"pack-refs", "--all"},
		{"commit", "-q", "--allow-empty", "-m", "two"}, {"update-ref", "refs/remotes/origin/main", "HEAD"},
		{"symbolic-ref", "refs/remotes/origin/HEAD", "refs/remotes/origin/main"}, {"branch", "after"}} {
		out, err := exec.Command("git", append([]string{"-C", dir}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	g, err := Find(t.Context(), "", nil)
	require.NoError(t, err)
	return g.In(dir)
}

func TestRefsAreReadAsGitTellsThem(t *testing.T) {
	r := made(t)
	own, common, err := Folders(r.Dir)
	require.NoError(t, err)
	check := func() {
		t.Helper()
		refs, err := ReadRefs(common)
		require.NoError(t, err)
		list, err := r.Do(t.Context(), "for-each-ref", "--format=%(objectname) %(symref) %(refname)")
		require.NoError(t, err)
		want := map[string]string{}
		for line := range strings.Lines(list) {
			if f := strings.Fields(line); len(f) == 2 {
				want[f[1]] = f[0]
			}
		}
		assert.Equal(t, want, refs)
		assert.Len(t, refs, 5)
	}
	check()
	_, err = r.Do(t.Context(), "pack-refs", "--all")
	require.NoError(t, err)
	check()
	branch, err := ReadHead(own)
	require.NoError(t, err)
	assert.Equal(t, "main", branch)

	// Another work tree of the same repository shares its refs.
	side := filepath.Join(t.TempDir(), "side")
	_, err = r.Do(t.Context(), "worktree", "add", "-q", side, "side/deep")
	require.NoError(t, err)
	own2, common2, err := Folders(side)
	require.NoError(t, err)
	assert.NotEqual(t, own, own2)
	same, err := filepath.EvalSymlinks(common2)
	require.NoError(t, err)
	here, err := filepath.EvalSymlinks(common)
	require.NoError(t, err)
	assert.Equal(t, here, same)
	branch, err = ReadHead(own2)
	require.NoError(t, err)
	assert.Equal(t, "side/deep", branch)
}

func TestConfigIsReadAsGitTellsIt(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "config")
	require.NoError(t, os.WriteFile(path, []byte("# a comment\n[core]\n\tBare = false ; here too\n\tflag\n[remote \"o]ri\\\"gin\"]\n\turl = \"https://gannet.example/a b#c\" # not this\n"+
		"\tfetch = +refs/heads/*:refs/remotes/origin/*\n\tfetch = one \\\n two\n[Branch \"Main\"] merge = refs/heads/main\n\tdescription = \"line\\none\\ttab\" end  \n"), 0o600))
	got, err := ReadConfig(path)
	require.NoError(t, err)
	g, err := Find(t.Context(), "", nil)
	require.NoError(t, err)
	items, err := g.In(dir).Lines(t.Context(), "config", "-z", "-f", path, "--list")
	require.NoError(t, err)
	want := map[string][]string{}
	for _, item := range items {
		key, value, has := strings.Cut(item, "\n")
		if !has {
			value = "true"
		}
		want[key] = append(want[key], value)
	}
	assert.Equal(t, want, got)
}

func TestParseStatus(t *testing.T) {
	id := strings.Repeat("a", 40)
	s, err := ParseStatus([]string{"# branch.oid " + id, "# branch.head main", "# branch.upstream origin/main", "# branch.ab +2 -3", "# stash 4",
		"1 .M N... 100644 100644 100644 " + id + " " + id + " src/a b.c", "1 A. N... 000000 100644 100644 " + id + " " + id + " new.c", "1 .D N... 100644 100644 000000 " + id + " " + id + " gone.c",
		"2 R. N... 100644 100644 100644 " + id + " " + id + " R100 to.c", "from.c", "1 .M SC.. 160000 160000 160000 " + id + " " + id + " module",
		"u UU N... 100644 100644 100644 100644 " + id + " " + id + " " + id + " both.c", "? fresh.c"})
	require.NoError(t, err)
	assert.Equal(t, []int{2, 3, 4}, []int{s.Ahead, s.Behind, s.Stashes})
	assert.Equal(t, map[string]int{"changed": 2, "new": 2, "deleted": 1, "renamed": 1, "clashing": 1}, s.Counts())
	assert.Equal(t, Entry{Kind: "changed", Path: "src/a b.c", XY: ".M", Staged: "100644 " + id, Last: "100644 " + id}, s.Entries[0])
	assert.Equal(t, Entry{Kind: "renamed", Path: "to.c", From: "from.c", XY: "R.", Staged: "100644 " + id, Last: "100644 " + id}, s.Entries[3])
	assert.Empty(t, s.Entries[1].Last)
	assert.True(t, s.Entries[4].Submodule)
	assert.False(t, s.Entries[4].Inner)
	inner, err := ParseStatus([]string{"1 .M S.MU 160000 160000 160000 " + id + " " + id + " module"})
	require.NoError(t, err)
	assert.True(t, inner.Entries[0].Inner)
	assert.True(t, s.Entries[6].Untracked())
	s, err = ParseStatus([]string{"# branch.oid (initial)", "# branch.head (detached)"})
	require.NoError(t, err)
	assert.Equal(t, &Status{}, s)
	for _, bad := range []string{"1 .M N...", "2 R. N... 1 1 1 a a R100 to.c", "# branch.ab many"} {
		_, err := ParseStatus([]string{bad})
		assert.Error(t, err, bad)
	}
}

// TestHashAll keeps many files by one run of git, and tells why not where one cannot be read.
func TestHashAll(t *testing.T) {
	r := made(t)
	var want []string
	say := func(i int) ([]byte, error) { return []byte(strings.Repeat("x\x00\n", i*i)), nil }
	for i := range 40 {
		data, _ := say(i)
		id, err := r.Hash(t.Context(), strings.NewReader(string(data)), false)
		require.NoError(t, err)
		want = append(want, id)
	}
	ids, err := r.HashAll(t.Context(), 40, say)
	require.NoError(t, err)
	assert.Equal(t, want, ids)
	for _, id := range ids {
		_, err := r.Do(t.Context(), "cat-file", "-e", id)
		assert.NoError(t, err)
	}
	broken := errors.New("broken")
	_, err = r.HashAll(t.Context(), 3, func(i int) ([]byte, error) {
		if i == 2 {
			return nil, broken
		}
		return say(i)
	})
	assert.ErrorIs(t, err, broken)
	r.GitDir = filepath.Join(r.Dir, "nowhere")
	_, err = r.HashAll(t.Context(), 30_000, say)
	assert.Error(t, err)
}
