package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// row finds a project's line on the board.
func row(t *testing.T, board, name string) string {
	t.Helper()
	for line := range strings.Lines(board) {
		if strings.Contains(line, " "+name+" ") {
			return strings.TrimSpace(line)
		}
	}
	t.Fatalf("no %s in\n%s", name, board)
	return ""
}

// TestAllProjects has a machine with many projects, on every way of asking.
func TestAllProjects(t *testing.T) {
	t.Parallel()
	for _, way := range []string{"list", "http", "ssh"} {
		t.Run(way, func(t *testing.T) { allProjects(t, way) })
	}
}

// allProjects works on six projects, asked in one way.
func allProjects(t *testing.T, way string) {
	t.Helper()
	name := map[string]string{"list": "gannet", "http": "petrel", "ssh": "petrel"}[way]
	h := newHostOf(t, name)
	pier, launch := signedIn(t, h), signedIn(t, h)
	over := "https"
	if way == "ssh" {
		over = "ssh"
		for _, m := range []*machine{pier, launch} {
			m.ok("", "", "host", "pin", strings.TrimPrefix(h.URL, "http://"), "--fingerprint", h.HostKey())
			m.ok("", "", "settings", "set", "machine", filepath.Base(filepath.Dir(m.home)))
			m.ok("", "", "key", "make", "tern", "--open")
			m.ok("", "", "key", "install", "tern", "--yes")
		}
	}
	launch.ok("", "", "settings", "set", "clone.layout", "flat")
	names := []string{"almanac", "buoys", "charts", "dredge", "ebb", "floats"}
	for _, n := range names {
		pier.write(n, map[string]string{"README.md": "# " + n + "\n", "notes.txt": "n\n"})
		pier.ok(n, "", "attach", "--yes", "--over", over)
		launch.ok("", "", "clone", n, "--over", over)
	}
	again := launch.ok("", "", "clone", "--everything", "--into", ".", "--over", over)
	assert.Contains(t, again, "6 repositories here already.")
	board := launch.ok("", "", "status", "--all", "--full")
	assert.Contains(t, board, "6 projects, all in step.")
	assert.Contains(t, board, "just now")
	trace := launch.run("", "", "sync", "--all", "--verbose")
	require.Equal(t, 0, trace.code, trace.err)
	assert.Contains(t, trace.out, "6 projects: 6 in step already.")
	assert.LessOrEqual(t, strings.Count(trace.err, "msg=git"), 1, "what did not change costs no run of git: %s", trace.err)
	seesAllProjects(t, way, name, h, pier, launch)
}

// seesAllProjects changes some here and some there, and looks at the board.
func seesAllProjects(t *testing.T, way string, name string, h *host, pier *machine, launch *machine) {
	t.Helper()
	pier.write("almanac", map[string]string{"notes.txt": "theirs\n"})
	pier.ok("almanac", "", "sync", "--save", "--message", "Theirs")
	pier.write("buoys", map[string]string{"notes.txt": "theirs\n"})
	pier.ok("buoys", "", "sync", "--save", "--message", "Theirs")
	pier.git("charts", "tag", "v1")
	pier.git("charts", "push", "-q", "origin", "v1")
	launch.write("buoys", map[string]string{"notes.txt": "mine\n"})
	launch.ok("buoys", "", "save", "Mine")
	launch.write("dredge", map[string]string{"notes.txt": "mine\n", "fresh.txt": "f\n"})
	launch.git("ebb", "branch", "task")
	launch.git("ebb", "checkout", "-q", "task")
	launch.git("ebb", "commit", "-q", "--allow-empty", "-m", "On a branch")
	launch.git("ebb", "checkout", "-q", "main")
	require.NoError(t, os.Rename(filepath.Join(launch.home, "floats"), filepath.Join(launch.home, "rafts")))
	board := launch.ok("", "", "status", "--all", "--full")
	assert.Contains(t, row(t, board, "floats"), "missing")
	assert.Contains(t, row(t, board, "buoys"), "1 commit not sent; new commits on the host")
	assert.Contains(t, row(t, board, "ebb"), "branch only here: task")
	assert.Contains(t, row(t, board, "dredge"), "1 changed file, 1 new")
	assert.Contains(t, row(t, board, "almanac"), "new commits on the host")
	var order []string
	var rows []struct{ Name, State string }
	require.NoError(t, json.Unmarshal([]byte(launch.ok("", "", "status", "--all", "--json")), &rows))
	for _, r := range rows {
		order = append(order, r.State+" "+r.Name)
	}
	assert.Equal(t, []string{"missing floats", "both buoys", "unsent ebb", "changed dredge", "behind almanac", "in step charts"}, order)
	assert.NotContains(t, launch.ok("", "", "status", "--all", "--offline"), "new commits on the host")
	syncsAllProjects(t, way, name, h, pier, launch)
}

// syncsAllProjects brings all into step, finds what was moved, and meets what is broken.
func syncsAllProjects(t *testing.T, way string, name string, h *host, pier *machine, launch *machine) {
	t.Helper()
	r := launch.run("", "", "sync", "--all")
	assert.Equal(t, 3, r.code, r.out+r.err)
	for _, want := range []string{"almanac: received 1 commit", "buoys: both sides changed the same file on main", "floats: its folder is missing", "6 projects: ", "2 for you to decide"} {
		assert.Contains(t, r.out, want)
	}
	assert.Equal(t, pier.id("almanac", "HEAD"), launch.id("almanac", "HEAD"))
	assert.Equal(t, " M notes.txt\n?? fresh.txt", strings.TrimSuffix(launch.command("dredge", "", "git", "status", "--porcelain").out, "\n"))
	if way != "list" {
		assert.Equal(t, "v1", launch.git("charts", "tag"), "a new tag is news")
	}

	// The folder that was moved is found again; a copy that plain git made is taken in.
	launch.git("", "clone", "-q", pier.git("charts", "remote", "get-url", "origin"), "other/charts2", "-c", "credential.helper=!f() { echo username=tern; echo password="+h.token["tern"]+"; }; f", "-c", "core.sshCommand="+launch.sshOf(t, "charts"))
	assert.Contains(t, launch.ok("", "", "project", "find", ".", "--preview"), "is now in "+filepath.Join(launch.home, "rafts"))
	launch.refused(3, []string{"there is no terminal to ask on"}, "", "", "project", "find", ".")
	launch.ok("", "", "project", "find", ".", "--yes")
	board := launch.ok("", "", "status", "--all", "--full")
	assert.Contains(t, row(t, board, "rafts"), "in step")
	assert.NotContains(t, row(t, board, "charts2"), "in step", "its own way to sign in is not trusted yet")
	assert.Contains(t, board, "7 projects")
	assert.Contains(t, launch.ok("", "", "project", "find", "."), "Nothing new: 7 clones found, all registered already.")
	assert.NotContains(t, launch.refused(3, []string{"credential.helper = ", "a program that is asked for tokens", "password=***", "uncinate project trust"}, "other/charts2", "", "sync"), h.token["tern"])
	launch.ok("other/charts2", "", "attach", "--trust", "--yes")
	assert.Contains(t, launch.ok("other/charts2", "", "sync"), "In step")

	require.NoError(t, os.Rename(filepath.Join(launch.home, "rafts"), filepath.Join(launch.home, ".away")))
	r = launch.run("", "", "project", "forget", "--missing", "--yes")
	assert.Contains(t, r.out, "1 project forgotten")
	assert.Contains(t, launch.ok("", "", "status", "--all", "--full"), "6 projects")
	require.NoError(t, os.Rename(filepath.Join(launch.home, ".away"), filepath.Join(launch.home, "rafts")))
	launch.ok("", "", "project", "find", ".", "--yes")

	require.NoError(t, os.WriteFile(filepath.Join(launch.home, "ebb/.git/index"), []byte("no index"), 0o600))
	board = launch.ok("", "", "status", "--all", "--full")
	assert.Contains(t, row(t, board, "ebb"), "broken")
	require.NoError(t, h.Close())
	r = launch.run("", "", "sync", "--all")
	assert.NotEqual(t, 0, r.code)
	assert.Contains(t, r.out, "7 failed.")
	assert.Contains(t, launch.ok("", "", "status", "--all", "--full"), "no answer")
	back, err := again(name, h.dir, strings.TrimPrefix(h.URL, "http://"))
	require.NoError(t, err)
	h.Running = back
}

// sshOf gives the way over SSH that a project has; nothing where it has none.
func (m *machine) sshOf(t *testing.T, dir string) string {
	t.Helper()
	return strings.TrimSpace(m.command(dir, "", "git", "config", "--get", "core.sshCommand").out)
}

// TestSyncAllFollows holds that a repository that was renamed is told of, and followed by
// sync with a yes.
func TestSyncAllFollows(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := signedIn(t, h)
	for i := range 5 {
		m.project(fmt.Sprint("p", i))
		m.ok(fmt.Sprint("p", i), "", "attach", "--yes")
	}
	_, err := h.Store.Change(context.Background(), "tern", "tern", "p3", 0, func(r *practice.Repo) error { r.Name = "p3-now"; return nil })
	require.NoError(t, err)
	assert.Regexp(t, `elsewhere +p3 +main +its repository is now called tern/p3-now`, m.ok("", "", "status", "--all", "--full"))
	assert.Contains(t, m.ok("p3", "", "status"), "the repository is now called tern/p3-now")
	r := m.run("", "", "sync", "--all")
	assert.Equal(t, 3, r.code)
	assert.Contains(t, r.out, "p3: The repository is called tern/p3-now now.")
	assert.Contains(t, r.out, "5 projects: 4 in step already, 1 for you to decide.")
	m.ok("", "", "sync", "--all", "--yes")
	assert.Contains(t, m.ok("", "", "sync", "--all"), "5 in step already")
	m.git(h.gitDir(t, "tern", "tern", "p4"), "-c", "user.name=T", "-c", "user.email=t@skerry.example", "tag", "-m", "First", "1.0.0", "main")
	assert.Contains(t, m.ok("", "", "sync", "--all"), "p4: received tag 1.0.0", "a tag alone comes in too")
	assert.Equal(t, "1.0.0", m.git("p4", "tag"))
	assert.Contains(t, m.ok("", "", "sync", "--all"), "5 in step already")
	m.write("p1", map[string]string{"new.txt": "n\n"})
	m.write("p2", map[string]string{"new.txt": "n\n"})
	k := m.talk("", "sync", "--all", "--save", "--message", "All of today")
	code, said := k.ends()
	assert.Equal(t, 0, code, said)
	assert.Contains(t, said, "2 now in step")
	assert.Regexp(t, `Syncing \[ *\]   0%  p\d`, said, "what is under way is named")
	assert.Equal(t, "All of today", m.git("p1", "log", "-1", "--format=%s", "origin/main"))
	// Plain git gives a remote another name, and takes one out.
	m.git("p1", "remote", "rename", "origin", "up")
	assert.Contains(t, m.ok("", "", "status", "--all", "--offline"), "all in step")
	assert.Contains(t, m.ok("", "", "sync", "--all"), "5 in step already")
	m.write("p1", map[string]string{"newer.txt": "n\n"})
	assert.Contains(t, m.ok("p1", "", "sync", "--save", "--message", "Newer"), "Sent 1 commit")
	m.git("p1", "remote", "remove", "up")
	assert.Regexp(t, `broken +p1 +the remote by which it was attached is gone`, m.ok("", "", "status", "--all", "--full"))
	m.refused(3, []string{"the remote up, by which", "is no longer there", "uncinate attach --to " + h.URL + "/tern/p1.git"}, "p1", "", "sync")
	m.ok("p1", "", "attach", "--to", h.URL+"/tern/p1.git", "--yes")
	assert.Contains(t, m.ok("", "", "status", "--all", "--full"), "all in step")
	m.refused(2, []string{"--all takes no folder"}, "", "", "sync", "--all", "p1")
	none := newMachine(t)
	none.refused(3, []string{"no project is attached on this machine yet", "uncinate project find FOLDER"}, "", "", "status", "--all")
}

// TestWorkTreesOfOneRepositoryTakeTurns syncs all where two projects are work trees of one repository:
// both receive into the same refs.
func TestWorkTreesOfOneRepositoryTakeTurns(t *testing.T) {
	t.Parallel()
	_, pier, launch := pair(t)
	launch.git("gauge", "worktree", "add", "-q", "../gauge-tree", "-b", "tree")
	launch.ok("gauge", "", "branch", "make", "scale", "--publish")
	launch.ok("", "", "project", "find", ".", "--yes")
	launch.ok("gauge-tree", "", "sync")
	for _, text := range []string{"one", "two", "three"} {
		pier.ok("gauge", "", "sync")
		pier.saved("main", text)
		pier.ok("gauge", "", "branch", "make", text, "--publish")
		assert.Contains(t, launch.ok("", "", "sync", "--all"), "2 projects: ")
	}
}
