package authkeys

import (
	"crypto/rand"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/kinds"
	"uncinate/internal/core/sshkey"
)

func key(t testing.TB, comment string) sshkey.Public {
	t.Helper()
	_, public, err := sshkey.Make("ed25519", comment, "", rand.Reader)
	require.NoError(t, err)
	return public
}

func TestAddAndRemove(t *testing.T) {
	hand, pier, launch := key(t, "by hand"), key(t, "tern on skerry, machine pier"), key(t, "tern on skerry, machine launch")
	for _, before := range []string{"", "# mine\n", "# mine\n" + hand.Line() + "\n", `command="echo \"ssh-rsa AAAA\"",no-pty ` + hand.Line() + "\n\n\n# the end\n"} {
		text, err := Add(before, Entry{Half: pier})
		require.NoError(t, err)
		assert.True(t, strings.HasPrefix(text, before), "what was there stays as it is")
		assert.Contains(t, text, "restrict "+pier.Line()+"\n")
		text, err = Add(text, Entry{Half: launch})
		require.NoError(t, err)
		again, err := Add(text, Entry{Half: launch})
		require.NoError(t, err)
		assert.Equal(t, text, again, "once is enough")
		assert.Equal(t, 1, strings.Count(text, kinds.Opening))
		var ours int
		for _, e := range Read(text) {
			if e.Ours {
				ours++
				assert.NotEqual(t, "by hand", e.Title())
			}
		}
		assert.Equal(t, 2, ours)

		_, removed := Remove(text, Entry{Half: hand})
		assert.False(t, removed, "what is outside our marks is not ours to remove")
		text, removed = Remove(text, Entry{Half: pier})
		assert.True(t, removed)
		text, removed = Remove(text, Entry{Half: launch})
		assert.True(t, removed)
		assert.Equal(t, before, text, "in the end it is as it was")
	}
}

func TestDeployKey(t *testing.T) {
	k := key(t, "follower")
	text, err := Add("", Entry{Half: k, Only: "/srv/git/tern/board.git"})
	require.NoError(t, err)
	text, err = Add(text, Entry{Half: k, Only: "/srv/git/tern/gauge.git", Writes: true})
	require.NoError(t, err)
	all := Read(text)
	require.Len(t, all, 2)
	assert.Equal(t, []Entry{{k, true, "/srv/git/tern/board.git", false}, {k, true, "/srv/git/tern/gauge.git", true}}, all)
	text, removed := Remove(text, Entry{Half: k, Only: "/srv/git/tern/board.git"})
	assert.True(t, removed)
	assert.Len(t, Read(text), 1)
	for _, bad := range []string{"/srv/$(touch x).git", "/srv/a b.git", "/srv/it's.git", "relative.git", "/srv/../etc", "/srv/a\nb.git", "/srv/\"x\".git", "/srv/a;b"} {
		_, err := Add("", Entry{Half: k, Only: bad})
		assert.Error(t, err, bad)
	}
}

// TestForcedCommand runs the line's command as sshd would, by several shells.
func TestForcedCommand(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"git-upload-pack", "git-receive-pack"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte("#!/bin/sh\necho "+name+" \"$@\"\n"), 0o755))
	}
	text, err := Add("", Entry{Half: key(t, "x"), Only: "/srv/board.git"})
	require.NoError(t, err)
	line := strings.Split(text, "\n")[1]
	run := strings.ReplaceAll(line[strings.Index(line, `command="`)+9:strings.LastIndex(line, `" ssh-`)], `\"`, `"`)
	for _, shell := range []string{"bash", "dash", "busybox"} {
		path, err := exec.LookPath(shell)
		if err != nil {
			t.Fatalf("%s is missing; install it with: apt-get install %s", shell, shell)
		}
		for asked, want := range map[string]string{
			"git-upload-pack '/srv/board.git'":         "git-upload-pack /srv/board.git\n",
			"git-upload-pack '/srv/board'":             "git-upload-pack /srv/board.git\n",
			"git-receive-pack '/srv/board.git'":        "",
			"git-upload-pack '/srv/other.git'":         "",
			"git-upload-pack '/srv/board.git'; echo x": "",
			"git-upload-pack '/srv/board.git' '$(id)'": "",
			"":         "",
			"sh -c id": "",
		} {
			args := []string{"-c", run}
			if shell == "busybox" {
				args = append([]string{"sh"}, args...)
			}
			c := exec.Command(path, args...)
			c.Env = []string{"PATH=" + dir + ":" + os.Getenv("PATH"), "SSH_ORIGINAL_COMMAND=" + asked}
			out, _ := c.Output()
			assert.Equal(t, want, string(out), "%s: %s", shell, asked)
		}
	}
}

func FuzzRemove(f *testing.F) {
	k := key(f, "tern, machine pier")
	f.Add("# mine\n" + k.Line() + "\n")
	f.Add(kinds.Opening + "\nrestrict " + k.Line() + "\n" + kinds.Closing)
	f.Add(kinds.Closing + "\n" + kinds.Opening + "\n\x00\n")
	f.Fuzz(func(t *testing.T, text string) {
		before := fmt.Sprint(Read(text))
		added, err := Add(text, Entry{Half: k})
		if err != nil {
			t.Fatal(err)
		}
		found := false
		for _, e := range Read(added) {
			found = found || e.Half.Same(k)
		}
		if !found {
			t.Fatalf("added to %q, and not read from %q", text, added)
		}
		if len(Read(text)) > len(Read(added)) {
			t.Fatalf("keys of %s are lost in %q", before, added)
		}
	})
}
