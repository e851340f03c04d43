package shellhost

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/fault"
	"uncinate/internal/world/openssh"
)

// here is a server whose SSH client runs the command on this machine, behind a noisy
// profile.
func here(t *testing.T) *Server {
	t.Helper()
	if _, err := exec.LookPath("git"); err != nil {
		t.Fatal("git is missing; install it with: apt-get install git")
	}
	dir := t.TempDir()
	client := filepath.Join(dir, "ssh")
	require.NoError(t, os.WriteFile(client, []byte("#!/bin/sh\necho 'Welcome to skerry. Mind the rocks.'\necho noise >&2\nfor last do :; done\nexec sh -c \"$last\"\n"), 0o755))
	return &Server{Client: &openssh.Client{Path: client}, Name: "skerry", Folder: filepath.Join(dir, ".srv", "it's $HOME"), Keys: filepath.Join(dir, "keys", "authorized_keys")}
}

// TestRepositories makes, lists, changes and moves repositories aside, under names that a
// shell would read as something else.
func TestRepositories(t *testing.T) {
	s := here(t)
	ctx := t.Context()
	user, version, writable, err := s.Identity(ctx)
	require.NoError(t, err)
	assert.NotEmpty(t, user)
	assert.False(t, Old(version))
	assert.True(t, writable)
	all, err := s.List(ctx)
	require.NoError(t, err)
	assert.Empty(t, all)
	names := []string{"gauge", "a b", "it's", `"q"`, "$(touch pwned)", "`touch pwned`", ";touch pwned;", "line\nend", "*", "é", "--x"}
	for _, name := range names {
		path := "tern/" + name
		_, err := s.Show(ctx, path)
		require.ErrorIs(t, err, None, name)
		r, err := s.Create(ctx, path, "It's "+name, "main", "")
		require.NoError(t, err, name)
		assert.Equal(t, path, r.Path)
		_, err = s.Create(ctx, path, "", "main", "")
		require.ErrorIs(t, err, Taken, name)
		shown, err := s.Show(ctx, path)
		require.NoError(t, err, name)
		assert.Equal(t, r, shown)
		assert.Equal(t, []any{"main", true, "It's " + name}, []any{shown.Head, shown.Empty, shown.Description})
		assert.Len(t, shown.ID, 16)
	}
	all, err = s.List(ctx)
	require.NoError(t, err)
	assert.Len(t, all, len(names))
	for _, name := range names {
		r, err := s.Change(ctx, "tern/"+name, "knot/"+name, "", true, "trunk")
		require.NoError(t, err, name)
		assert.Equal(t, []string{"knot/" + name, "trunk", ""}, []string{r.Path, r.Head, r.Description})
		_, err = s.Change(ctx, "tern/"+name, "", "", false, "x")
		require.ErrorIs(t, err, None)
	}
	_, err = s.Change(ctx, "knot/gauge", "knot/a b", "", false, "")
	require.ErrorIs(t, err, Taken)
	for _, name := range names {
		aside, err := s.Delete(ctx, "knot/"+name)
		require.NoError(t, err, name)
		assert.DirExists(t, aside)
		_, err = s.Delete(ctx, "knot/"+name)
		require.ErrorIs(t, err, None)
	}
	all, err = s.List(ctx)
	require.NoError(t, err)
	assert.Empty(t, all, "what is aside is not listed")
	assert.NoFileExists(t, "pwned")
	_, err = s.Create(ctx, "tern/null\x00byte", "", "main", "")
	assert.ErrorContains(t, err, "null byte")
}

func TestWhatGoesWrong(t *testing.T) {
	s := here(t)
	ctx := t.Context()
	r, err := s.Create(ctx, "tern/gauge", "Levels", "main", "")
	require.NoError(t, err)
	dir := filepath.Join(s.Folder, "tern/gauge.git")
	for _, args := range [][]string{{"-C", dir, "commit-tree", "4b825dc642cb6eb9a060e54bf8d69288fbee4904", "-m", "x"}} {
		c := exec.Command("git", args...)
		c.Env = append(os.Environ(), "GIT_AUTHOR_NAME=T", "GIT_AUTHOR_EMAIL=t@skerry.example", "GIT_COMMITTER_NAME=T", "GIT_COMMITTER_EMAIL=t@skerry.example")
		out, err := c.Output()
		require.NoError(t, err)
		require.NoError(t, exec.Command("git", "-C", dir, "update-ref", "refs/heads/main", strings.TrimSpace(string(out))).Run())
	}
	shown, err := s.Show(ctx, "tern/gauge")
	require.NoError(t, err)
	assert.False(t, shown.Empty)
	assert.Equal(t, r.ID, shown.ID)

	// What was cut off is taken up: a folder alone, or with a description.
	for _, left := range []string{"", "description"} {
		at := filepath.Join(s.Folder, "tern/cut"+left+".git")
		require.NoError(t, os.Mkdir(at, 0o700))
		if left != "" {
			require.NoError(t, os.WriteFile(filepath.Join(at, left), []byte("x"), 0o600))
		}
		_, err := s.Show(ctx, "tern/cut"+left)
		require.ErrorIs(t, err, None)
		_, err = s.Create(ctx, "tern/cut"+left, "Levels", "main", "")
		require.NoError(t, err)
	}
	require.NoError(t, os.Mkdir(filepath.Join(s.Folder, "tern/full.git"), 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "tern/full.git/work"), nil, 0o600))
	_, err = s.Create(ctx, "tern/full", "", "main", "")
	require.ErrorIs(t, err, Taken, "and nothing of someone else's is removed")
	assert.FileExists(t, filepath.Join(s.Folder, "tern/full.git/work"))

	require.NoError(t, os.Symlink(filepath.Join(s.Folder, "tern"), filepath.Join(s.Folder, "linked")))
	for _, do := range []func() error{
		func() error { _, err := s.Show(ctx, "linked/gauge"); return err },
		func() error { _, err := s.Delete(ctx, "linked/gauge"); return err },
		func() error { _, err := s.Change(ctx, "tern/gauge", "linked/x", "", false, ""); return err },
		func() error { _, err := s.Create(ctx, "linked/x", "", "main", ""); return err },
	} {
		err := do()
		assert.True(t, fault.Is(err, fault.Refused), "%v", err)
		assert.ErrorContains(t, err, "symbolic link")
	}
	_, err = s.Change(ctx, "tern/gauge", "", "", false, "..bad..")
	assert.ErrorContains(t, err, "could not do it", "git's own reason is told")

	require.NoError(t, os.WriteFile(filepath.Join(s.Folder, "file"), nil, 0o600))
	_, err = s.Create(ctx, "file/x", "", "main", "")
	assert.ErrorContains(t, err, "could not do it")
	for version, old := range map[string]bool{"1.7.9": true, "1.8.0": false, "2.39.5": false, "what": true, "": true} {
		assert.Equal(t, old, Old(version), version)
	}
}

func TestKeysFile(t *testing.T) {
	s := here(t)
	ctx := t.Context()
	contents, sum, err := s.ReadKeys(ctx)
	require.NoError(t, err)
	assert.Empty(t, contents)
	want := "# it's \"mine\" $HOME `x`\nssh-ed25519 AAAA x\n"
	require.NoError(t, s.WriteKeys(ctx, want, sum))
	info, err := os.Stat(s.Keys)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	require.ErrorIs(t, s.WriteKeys(ctx, "other", sum), Changed, "it is not the one that was read")
	contents, sum, err = s.ReadKeys(ctx)
	require.NoError(t, err)
	assert.Equal(t, want, contents)
	require.NoError(t, os.Chmod(s.Keys, 0o644))
	require.NoError(t, s.WriteKeys(ctx, want+"# more\n", sum))
	info, err = os.Stat(s.Keys)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o644), info.Mode().Perm(), "its mode stays")
	left, err := filepath.Glob(filepath.Dir(s.Keys) + "/*")
	require.NoError(t, err)
	assert.Len(t, left, 1, "neither lock nor new file is left")
	require.NoError(t, os.Rename(s.Keys, s.Keys+".real"))
	require.NoError(t, os.Symlink(s.Keys+".real", s.Keys))
	_, _, err = s.ReadKeys(ctx)
	assert.ErrorContains(t, err, "symbolic link")
}

func TestNoShellThere(t *testing.T) {
	for script, want := range map[string]string{"echo only git is served here >&2; exit 1": "did not answer as a shell does", "exit 255": "ssh failed", "echo bye": "did not answer as a shell does"} {
		client := filepath.Join(t.TempDir(), "ssh")
		require.NoError(t, os.WriteFile(client, []byte("#!/bin/sh\n"+script+"\n"), 0o755))
		s := &Server{Client: &openssh.Client{Path: client}, Name: "skerry", Folder: "/srv"}
		_, err := s.List(t.Context())
		assert.ErrorContains(t, err, want, script)
	}
}
