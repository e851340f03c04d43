package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"uncinate/internal/core/address"
	"uncinate/internal/practice"
	"uncinate/internal/world/files"
)

// What most tests begin with is made once for each kind of host, and copied: a host with the demo's
// users, a machine that is signed in to it, and both once a project is attached. A copy differs from
// what would be rewritten in the host's port and the machine's home alone, and those are put right.

// preparedTop is where that is; TestMain removes it.
var preparedTop string

// prepared is a host and a machine to be copied.
type prepared struct {
	at, home string // the host's address and the machine's home, as they were
	token    map[string]string
	dir      string // of the copies: host and home, host-attached and home-attached
}

var (
	preparing sync.Mutex
	ready     = map[string]*prepared{}
)

// preparedFor gives what is prepared of one kind of host.
func preparedFor(t *testing.T, name string) *prepared {
	t.Helper()
	preparing.Lock()
	defer preparing.Unlock()
	if ready[name] != nil {
		return ready[name]
	}
	p := &prepared{token: map[string]string{}, dir: filepath.Join(preparedTop, name)}
	working := filepath.Join(p.dir, "working")
	require.NoError(t, os.MkdirAll(filepath.Join(working, "home"), 0o755))
	var err error
	p.home, err = filepath.EvalSymlinks(filepath.Join(working, "home"))
	require.NoError(t, err)
	h, err := practice.Start(name, filepath.Join(working, "host"), "127.0.0.1:0", nil)
	require.NoError(t, err)
	p.at = h.URL
	tokens, err := h.Demo()
	require.NoError(t, err)
	for _, k := range tokens {
		p.token[k.User] = k.Secret
	}
	m := machineAt(t, p.home)
	m.signIn(&host{Running: h, token: p.token})
	require.NoError(t, errors.Join(copyTree(filepath.Join(working, "host"), filepath.Join(p.dir, "host")), copyTree(p.home, filepath.Join(p.dir, "home"))))
	m.project("gauge")
	m.ok("gauge", "", "attach", "--yes")
	require.NoError(t, errors.Join(h.Close(), copyTree(filepath.Join(working, "host"), filepath.Join(p.dir, "host-attached")), copyTree(p.home, filepath.Join(p.dir, "home-attached"))))
	ready[name] = p
	return p
}

// copyHome copies a prepared machine's home to another's, for a host at its own address.
func (p *prepared) copyHome(t *testing.T, kind string, m *machine, at string) {
	t.Helper()
	tie := func(at string) string {
		a, err := address.Parse(at + "/tern/gauge.git")
		require.NoError(t, err)
		return files.Short(a.Key())
	}
	put := strings.NewReplacer(p.home, m.home, strings.TrimPrefix(p.at, "http://"), strings.TrimPrefix(at, "http://"), tie(p.at), tie(at))
	require.NoError(t, copyAs(filepath.Join(p.dir, kind), m.home, put.Replace))
}

// attached is a host and a machine that is signed in to it, with a small project that is attached.
func attached(t *testing.T) (*host, *machine) {
	t.Helper()
	h, m := hostFrom(t, "gannet", "host-attached"), newMachine(t)
	preparedFor(t, "gannet").copyHome(t, "home-attached", m, h.URL)
	m.git("gauge", "update-index", "-q", "--refresh") // git's notes of times are those of the first files
	return h, m
}

// signIn lets a machine know the host, and gives it tern's account and a vault with a key file.
func (m *machine) signIn(h *host) {
	m.t.Helper()
	m.ok("", "", "host", "add", h.Name, "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"]+"\n", "account", "add", "--host", h.Name, "--user", "tern")
}

// hostFrom starts a copy of a prepared host.
func hostFrom(t *testing.T, name, kind string) *host {
	t.Helper()
	p := preparedFor(t, name)
	h := &host{dir: t.TempDir(), token: maps.Clone(p.token)}
	require.NoError(t, copyTree(filepath.Join(p.dir, kind), h.dir))
	var err error
	h.Running, err = practice.Start(name, h.dir, "127.0.0.1:0", nil)
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, h.Close()) })
	remedies.serves(t, h)
	return h
}

// copyTree copies a folder with modes, times and links.
func copyTree(from, to string) error { return copyAs(from, to, func(s string) string { return s }) }

// copyAs is copyTree, with what put makes of each name, and of each file that is text.
func copyAs(from, to string, put func(string) string) error {
	return filepath.WalkDir(from, func(path string, e fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, err := filepath.Rel(from, path)
		if err != nil {
			return err
		}
		target := filepath.Join(to, put(rel))
		info, err := e.Info()
		if err != nil {
			return err
		}
		switch {
		case e.IsDir():
			return os.MkdirAll(target, info.Mode().Perm()|0o700)
		case info.Mode()&fs.ModeSymlink != 0:
			link, err := os.Readlink(path)
			if err != nil {
				return err
			}
			return os.Symlink(link, target)
		case !info.Mode().IsRegular():
			return nil // a socket is made again by whoever listens on it
		case info.Size() > 4<<20: // it may be much larger than what it takes
			out, err := exec.Command("cp", "-a", "--sparse=always", path, target).CombinedOutput()
			return errorWith(err, out)
		}
		data, err := os.ReadFile(path)
		if err == nil {
			if !bytes.Contains(data, []byte{0}) {
				data = []byte(put(string(data)))
			}
			err = os.WriteFile(target, data, info.Mode().Perm())
		}
		if err == nil {
			err = os.Chtimes(target, info.ModTime(), info.ModTime())
		}
		return err
	})
}

// errorWith is an error with what was printed.
func errorWith(err error, printed []byte) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("%w: %s", err, printed)
}
