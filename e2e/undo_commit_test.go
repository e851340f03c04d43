package e2e

import (
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

// titles are those of the newest commits.
func (m *machine) titles(n string) string { return m.git("gauge", "log", "-"+n, "--format=%s") }

// TestUndoCommit takes commits back: the last one, unsent and sent, older ones, a run of them.
func TestUndoCommit(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	read := func(p string) string { return read(t, filepath.Join(m.home, "gauge", p)) }
	m.write("gauge", map[string]string{"n.txt": "1\n2\n3\n4\n5\n6\n7\n8\n"})
	m.ok("gauge", "", "save", "Numbers")
	m.write("gauge", map[string]string{"n.txt": "1\ntwo\n3\n4\n5\n6\n7\n8\n", "new.txt": "new\n"})
	m.shell("gauge", "chmod 755 new.txt")
	m.ok("gauge", "", "save", "Two as a word")
	last, before := m.id("gauge", "HEAD"), tree(t, filepath.Join(m.home, "gauge"))

	// The last one, unsent: its changes stay, and the lines that are printed bring it back as it was.
	said := m.ok("gauge", "", "undo", "commit", "--yes")
	assert.Contains(t, said, "Taken back: "+last[:10]+". What it changed is not saved now; to save it again: uncinate save --message 'Two as a word'")
	assert.Equal(t, before, tree(t, filepath.Join(m.home, "gauge")))
	assert.Equal(t, "Numbers", m.titles("1"))
	m.bringBack("gauge", said)
	m.ok("gauge", "", "branch", "join", "rescued-1")
	assert.Equal(t, last, m.id("gauge", "HEAD"))
	assert.Empty(t, m.git("gauge", "status", "--porcelain"))

	// Its changes too: they come back as changes that are not saved, modes included.
	m.write("gauge", map[string]string{"other.txt": "stays\n"})
	said = m.ok("gauge", "", "undo", "commit", "--drop", "--yes")
	assert.Equal(t, "?? other.txt", m.git("gauge", "status", "--porcelain"))
	m.bringBack("gauge", said)
	assert.Equal(t, " M n.txt\n?? new.txt\n?? other.txt", strings.TrimRight(m.command("gauge", "", "git", "status", "--porcelain").out, "\n"))
	assert.Equal(t, before["new.txt"], tree(t, filepath.Join(m.home, "gauge"))["new.txt"])
	m.refused(3, []string{"n.txt", "uncinate undo changes n.txt"}, "gauge", "", "undo", "commit", "HEAD", "--yes")
	m.ok("gauge", "", "save", "Two as a word")

	// Sent: a new commit takes it back, and that is taken back again.
	m.ok("gauge", "", "sync")
	m.refused(4, []string{"was sent already", "uncinate undo commit\n"}, "gauge", "", "undo", "commit", "--drop")
	said = m.ok("gauge", "", "undo", "commit", "--yes")
	assert.Contains(t, said, "To send it: uncinate sync")
	assert.Equal(t, "Revert \"Two as a word\"\nTwo as a word", m.titles("2"))
	assert.Equal(t, "1\n2\n3\n4\n5\n6\n7\n8\n", read("n.txt"))
	m.ok("gauge", "", "sync")
	m.refused(1, []string{"nothing of commit", "took it back already", "uncinate undo commit " + m.id("gauge", "HEAD")[:10]}, "gauge", "", "undo", "commit", "HEAD~1")
	m.ok("gauge", "", "undo", "commit", m.id("gauge", "HEAD"), "--message", "Two again", "--yes")
	assert.Contains(t, m.git("gauge", "log", "-1", "--format=%B"), "Two again\n\nThis reverts commit "+m.id("gauge", "HEAD~1"))
	assert.Equal(t, before["new.txt"], tree(t, filepath.Join(m.home, "gauge"))["new.txt"])

	olderCommitsAreUndone(t, m)
}

// olderCommitsAreUndone takes back an older commit, a run of them, and a file as it was.
func olderCommitsAreUndone(t *testing.T, m *machine) {
	t.Helper()
	read := func(p string) string { return read(t, filepath.Join(m.home, "gauge", p)) }

	// An older one under later changes of other lines, and a run of commits.
	m.write("gauge", map[string]string{"n.txt": "1\ntwo\n3\n4\n5\n6\n7\neight\n"})
	m.ok("gauge", "", "save", "Eight as a word")
	m.ok("gauge", "", "undo", "commit", "HEAD~1", "--yes")
	assert.Equal(t, "1\n2\n3\n4\n5\n6\n7\neight\n", read("n.txt"))
	m.ok("gauge", "", "undo", "commit", "HEAD~2..", "--yes")
	assert.Equal(t, "Revert 2 commits", m.titles("1"))
	assert.Equal(t, "1\ntwo\n3\n4\n5\n6\n7\n8\n", read("n.txt"))
	m.ok("gauge", "", "undo", "commit", "HEAD", "HEAD~1", "--yes")
	assert.Equal(t, "1\ntwo\n3\n4\n5\n6\n7\neight\n", read("n.txt"))

	// A file as it was in a commit that history names.
	history := m.ok("gauge", "", "history", "n.txt")
	line := "uncinate undo file n.txt --to " + m.git("gauge", "log", "--format=%H", "--grep=^Numbers$")[:10]
	assert.Contains(t, history, line+"\n")
	said := m.ok("gauge", "", append(strings.Fields(line)[1:], "--yes")...)
	assert.Equal(t, "1\n2\n3\n4\n5\n6\n7\n8\n", read("n.txt"))
	assert.Contains(t, said, "not saved yet")
	m.bringBack("gauge", said)
	assert.Empty(t, m.git("gauge", "status", "--porcelain"))
	m.ok("gauge", "", "undo", "file", ".", "--to", "HEAD~4", "--yes")
	assert.Empty(t, m.git("gauge", "diff", "HEAD~4"))
}

// TestUndoMerge takes a merge back: joining the branch again says what is the matter, and the line that
// it names brings it back.
func TestUndoMerge(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	m.ok("gauge", "", "branch", "make", "pump", "--switch")
	m.write("gauge", map[string]string{"pump.txt": "pump\n"})
	m.ok("gauge", "", "save", "Add the pump")
	m.ok("gauge", "", "branch", "switch", "main")
	m.write("gauge", map[string]string{"main.txt": "main\n"})
	m.ok("gauge", "", "save", "On main")
	m.ok("gauge", "", "branch", "join", "pump")
	assert.Contains(t, m.ok("gauge", "", "undo", "commit", "--yes"), "is not saved now") // nobody has it
	assert.Equal(t, "A  pump.txt", m.git("gauge", "status", "--porcelain"))
	m.ok("gauge", "", "undo", "changes", "--yes")
	m.ok("gauge", "", "branch", "join", "pump")
	m.ok("gauge", "", "sync")
	merge := m.id("gauge", "HEAD")
	shown := m.ok("gauge", "", "undo", "commit", "--preview")
	assert.Contains(t, shown, "It is a merge: what came with it from the other side (1 commit) is taken back; what was there before, up to "+m.id("gauge", "HEAD^1")[:10]+" (On main), stays.")
	assert.Contains(t, shown, "Joining that branch again does not receive it again")
	m.ok("gauge", "", "undo", "commit", "--yes")
	assert.NotContains(t, tree(t, filepath.Join(m.home, "gauge")), "pump.txt")
	by := m.id("gauge", "HEAD")[:10]
	m.refused(3, []string{"pump was joined before, and commit " + by + " took that back", "uncinate undo commit " + by}, "gauge", "", "branch", "join", "pump")
	m.ok("gauge", "", "branch", "switch", "pump")
	m.write("gauge", map[string]string{"valve.txt": "valve\n"})
	m.ok("gauge", "", "save", "Add a valve")
	m.ok("gauge", "", "branch", "switch", "main")
	assert.Contains(t, m.ok("gauge", "", "branch", "join", "pump"), "What was joined of pump before was taken back by commit "+by)
	assert.NotContains(t, tree(t, filepath.Join(m.home, "gauge")), "pump.txt")
	m.ok("gauge", "", "undo", "commit", by, "--yes")
	assert.Contains(t, tree(t, filepath.Join(m.home, "gauge")), "pump.txt")
	assert.Contains(t, m.ok("gauge", "", "branch", "join", "pump"), "has all of it already")
	m.ok("gauge", "", "undo", "commit", merge, "--parent", "2", "--yes")
	assert.NotContains(t, tree(t, filepath.Join(m.home, "gauge")), "main.txt")
}

// TestUndoClashes decides an undo that clashes with later commits, each way.
func TestUndoClashes(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	for _, s := range []string{"one", "two", "three"} {
		m.write("gauge", map[string]string{"depth.txt": s + "\n", "plan.dwg": "\x00" + s})
		m.ok("gauge", "", "save", strings.ToUpper(s))
	}
	taken, head := m.id("gauge", "HEAD~1"), m.id("gauge", "HEAD")
	m.refused(3, []string{"commit " + taken[:10] + " (TWO) cannot be taken back by itself: later commits changed the same in 2 files", "changed later by " + head[:7] + " (THREE)", "uncinate settle\n"}, "gauge", "", "undo", "commit", taken, "--yes")
	assert.Equal(t, head, m.id("gauge", "HEAD"))
	shown := m.ok("gauge", "", "settle")
	for _, says := range []string{"2 files clash: later commits changed what the undo of " + taken[:10] + " takes back.", "now (yours)", "taken back (theirs)", ": TWO", "three", "one", "uncinate settle mine depth.txt", "leave it as it is now"} {
		assert.Contains(t, shown, says)
	}
	m.write("gauge", map[string]string{"../both.txt": "one, and three\n"})
	assert.Contains(t, m.ok("gauge", "", "settle", "both", "plan.dwg"), "plan.dwg becomes as it was before, with what is there now beside it.\n1 file left: depth.txt.")
	m.refused(2, []string{"an undo stopped here"}, "gauge", "", "settle", "mine", "--by", "merge")
	said := m.ok("gauge", "", "settle", "by-hand", "depth.txt", "--with", "../both.txt")
	assert.Contains(t, said, "What was in plan.dwg is now in plan.from-")
	assert.Equal(t, "one, and three\n", m.git("gauge", "show", "HEAD:depth.txt")+"\n")
	assert.Equal(t, "\x00one", m.git("gauge", "show", "HEAD:plan.dwg"))
	assert.Equal(t, "Revert \"TWO\"", m.titles("1"))

	// Given up, and at once; several commits, of which each clashes.
	m.refused(3, nil, "gauge", "", "undo", "commit", taken, "HEAD~3", "--yes")
	assert.Contains(t, m.ok("gauge", "", "settle", "cancel"), "To decide again: uncinate undo commit "+taken+" HEAD~3")
	now := m.id("gauge", "HEAD")
	m.ok("gauge", "", "undo", "commit", head, "--clash", "theirs", "--yes")
	assert.Equal(t, "two", m.git("gauge", "show", "HEAD:depth.txt"))
	assert.Equal(t, now, m.id("gauge", "HEAD~1"))
	assert.Contains(t, m.ok("gauge", "", "settle"), "Nothing clashes")
}
