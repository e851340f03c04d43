package e2e

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/desk/project"
)

// TestTwoPeopleOneDrawing plays a binary file that two people change: it is foreseen, met, decided and
// done again, and both people's work is kept.
func TestTwoPeopleOneDrawing(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, hut := shared(t, h)
	pier.write("gauge", map[string]string{"mooring/plan.dwg": "\x00plan"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Draw the plan")
	for _, m := range []*machine{launch, hut} {
		m.ok("gauge", "", "sync")
	}
	hut.write("gauge", map[string]string{"mooring/plan.dwg": "\x00plan with a mast"})
	hut.ok("gauge", "", "sync", "--save", "--message", "Move the mast")

	pier.write("gauge", map[string]string{"mooring/plan.dwg": "\x00plan with a deck"})
	refs := pier.git("gauge", "for-each-ref")
	said := pier.ok("gauge", "", "status")
	assert.Contains(t, said, "Changed on the host too:\n  mooring/plan.dwg  Knot of Saltmarsh, just now: Move the mast\n")
	assert.Contains(t, pier.ok("", "", "status", "--all"), "overlap  gauge  ")
	assert.Equal(t, refs, pier.git("gauge", "for-each-ref"), "the project's refs stay as they are")
	assert.Contains(t, pier.ok("gauge", "", "save", "A deck"), "Changed on the host too:\n  mooring/plan.dwg  Knot of Saltmarsh")
	said = pier.ok("gauge", "", "status")
	assert.Contains(t, said, "clash    1 file changed on both sides: mooring/plan.dwg")
	assert.Contains(t, said, "Next: uncinate sync\n")
	pier.refused(3, []string{"both sides changed the same file on main", "mooring/plan.dwg, changed on the host by Knot", "uncinate settle"}, "gauge", "", "sync")
	assert.Contains(t, pier.ok("gauge", "", "status"), "Next: uncinate settle\n")
	assert.Contains(t, pier.ok("", "", "status", "--all"), "clash  gauge  ")
	said = pier.ok("gauge", "", "settle")
	assert.Contains(t, said, "theirs  17 B; Knot of Saltmarsh, just now: Move the mast")
	assert.Contains(t, said, "uncinate settle by-hand mooring/plan.dwg --with FILE")
	said = pier.ok("gauge", "", "settle", "both", "mooring")
	assert.Contains(t, said, "merged it with 1 commit of yours, and sent that")
	machine, err := os.Hostname()
	require.NoError(t, err)
	beside := "mooring/plan.from-" + machine + ".dwg"
	assert.Contains(t, said, "Your mooring/plan.dwg is now "+beside+", beside theirs.")
	assert.Equal(t, "\x00plan with a deck", read(t, filepath.Join(pier.home, "gauge", beside)))
	assert.Equal(t, "\x00plan with a mast", read(t, filepath.Join(pier.home, "gauge/mooring/plan.dwg")))
	assert.Empty(t, pier.git("gauge", "status", "--porcelain"))
	assert.Equal(t, "\x00plan with a deck", pier.ok("gauge", "", "rescue", "show", "1", "mooring/plan.dwg"))
	assert.Contains(t, pier.ok("gauge", "", "status"), "To do again: your mooring/plan.dwg is "+beside)

	pier.write("gauge", map[string]string{"mooring/plan.dwg": "\x00plan with a mast and a deck"})
	pier.ok("gauge", "", "sync", "--save", "--message", "A deck, beside the mast")
	require.NoError(t, os.Remove(filepath.Join(pier.home, "gauge", beside)))
	assert.NotContains(t, pier.ok("gauge", "", "status"), "To do again")
	hut.ok("gauge", "", "sync")
	assert.Equal(t, "\x00plan with a mast and a deck", read(t, filepath.Join(hut.home, "gauge/mooring/plan.dwg")))
	for _, title := range []string{"A deck", "Move the mast"} {
		assert.Contains(t, hut.git("gauge", "log", "--format=%s"), title+"\n")
	}
	othersBranch(t, launch, hut)
}

// othersBranch looks at a file that somebody else changed on another branch.
func othersBranch(t *testing.T, launch, hut *machine) {
	t.Helper()
	launch.ok("gauge", "", "sync")
	hut.ok("gauge", "", "branch", "make", "deck", "--switch")
	hut.write("gauge", map[string]string{"notes.txt": "one, of the deck\n", "only.txt": "only\n"})
	hut.ok("gauge", "", "sync", "--save", "--message", "Notes of the deck")
	assert.NotContains(t, launch.ok("gauge", "", "status"), "Changed on the host too", "nothing was changed here")
	launch.write("gauge", map[string]string{"notes.txt": "one, and two\n"})
	assert.Contains(t, launch.ok("gauge", "", "status"), "Changed on the host too:\n  notes.txt  Knot of Saltmarsh on branch deck, just now: Notes of the deck\n")
	launch.git("gauge", "gc", "-q", "--prune=now") // what our store borrowed may go
	var s project.Standing
	require.NoError(t, json.Unmarshal([]byte(launch.ok("gauge", "", "status", "--json")), &s))
	require.Len(t, s.Meets, 1)
	assert.Equal(t, "deck", s.Meets[0].Branch)
	assert.Equal(t, "overlap", s.State)
}

func read(t *testing.T, path string) string {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	return string(data)
}

// TestTwoPeopleOneText plays a text: what is apart merges by itself, one line is decided in an editor,
// and a text in which a mark is left is refused.
func TestTwoPeopleOneText(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.write("gauge", map[string]string{"notes.txt": instead("n", "theirs"), "src/level.c": "int level;\nint height = 4;\n\n\n\n\n\n\n\nint end;\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Theirs")
	launch.write("gauge", map[string]string{"notes.txt": instead("n", "mine"), "src/level.c": "int level;\nint height = 3;\n\n\n\n\n\n\n\nint tail;\n"})
	launch.ok("gauge", "", "save", "Mine")
	launch.refused(3, []string{"both sides changed the same file on main", "notes.txt, changed on the host by Tern"}, "gauge", "", "sync")
	var shown struct {
		Clashes []struct {
			Text string `json:"text"`
		} `json:"clashes"`
	}
	require.NoError(t, json.Unmarshal([]byte(launch.ok("gauge", "", "settle", "--json")), &shown))
	require.Len(t, shown.Clashes, 1)
	assert.Contains(t, shown.Clashes[0].Text, "<<<<<<< yours\n")

	edit := func(script string) {
		path := filepath.Join(launch.home, "edit")
		require.NoError(t, os.WriteFile(path, []byte("#!/bin/sh\n"+script), 0o755))
		launch.git("gauge", "config", "--global", "core.editor", path+" --wait")
	}
	edit(`sed -i '/^=======$/d' "$2"`)
	launch.refused(3, []string{"line 5 of notes.txt still has a mark: <<<<<<< yours", "What you wrote is kept", "uncinate settle by-hand notes.txt"}, "gauge", "", "settle", "by-hand", "notes.txt")
	edit("exit 1\n")
	launch.refused(3, []string{"the editor ended with an error", "uncinate settle by-hand notes.txt"}, "gauge", "", "settle", "by-hand", "notes.txt")
	edit(`grep -q '^=======$' "$2" && exit 3; sed -i -e '/^<<<<<<< /d' -e '/^>>>>>>> /d' "$2"; echo by hand >> "$2"`)
	assert.Contains(t, launch.ok("gauge", "", "settle", "by-hand", "notes.txt", "--preview"), "Open notes.txt in your editor: 1 part of it clashes")
	said := launch.ok("gauge", "", "settle", "by-hand", "notes.txt")
	assert.Contains(t, said, "merged it with 1 commit of yours, and sent that")
	got := read(t, filepath.Join(launch.home, "gauge/notes.txt"))
	assert.True(t, strings.HasSuffix(got, "by hand\n"), got)
	assert.NotContains(t, got, "<<<<")
	assert.Contains(t, got, "mine\n")
	assert.Contains(t, got, "theirs\n")
	assert.Equal(t, "int level;\nint height = 4;\n\n\n\n\n\n\n\nint tail;\n", read(t, filepath.Join(launch.home, "gauge/src/level.c")))
	assert.Equal(t, launch.id("gauge", "HEAD"), launch.id("gauge", "origin/main"))
	withAFile(t, pier, launch)
}

// withAFile decides a drawing by a file that was made elsewhere of both, and a text whose file still
// has marks.
func withAFile(t *testing.T, pier, launch *machine) {
	t.Helper()
	pier.ok("gauge", "", "sync")
	pier.write("gauge", map[string]string{"plan.dwg": "\x00theirs", "README.md": "# theirs\n", "-dash.txt": "theirs\n", "odd[1\x1b].txt": "theirs\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Theirs again")
	launch.write("gauge", map[string]string{"plan.dwg": "\x00mine", "README.md": "# mine\n", "-dash.txt": "mine\n", "odd[1\x1b].txt": "mine\n", "../of-both.dwg": "\x00of both", "../marked": "<<<<<<< yours\n# mine\n"})
	launch.refused(3, []string{"both sides changed the same files on main"}, "gauge", "", "sync", "--save", "--message", "Mine again")
	launch.refused(2, []string{"plan.dwg is not a text", "--with FILE"}, "gauge", "", "settle", "by-hand", "plan.dwg")
	launch.refused(3, []string{"line 1 of ../marked still has a mark"}, "gauge", "", "settle", "by-hand", "README.md", "--with", "../marked")
	launch.refused(2, []string{"nothing clashes at nothing.txt", "uncinate settle"}, "gauge", "", "settle", "mine", "nothing.txt")
	shown := launch.ok("gauge", "", "settle")
	assert.Contains(t, shown, "uncinate settle mine -- -dash.txt ")
	assert.Contains(t, shown, `odd[1\x1b].txt  both sides added it`)
	launch.ok("gauge", "", "settle", "mine", "odd[1\x1b].txt", "--", "-dash.txt")
	assert.Contains(t, launch.ok("gauge", "", "settle", "by-hand", "plan.dwg", "--with", "../of-both.dwg"), "1 file left: README.md")
	require.NoError(t, os.Remove(filepath.Join(launch.home, "of-both.dwg"))) // it was taken
	assert.Contains(t, launch.ok("gauge", "", "settle", "theirs", "--preview"), "README.md becomes theirs")
	launch.ok("gauge", "", "settle", "theirs")
	assert.Equal(t, "\x00of both", read(t, filepath.Join(launch.home, "gauge/plan.dwg")))
	assert.Equal(t, "# theirs\n", read(t, filepath.Join(launch.home, "gauge/README.md")))
}

// TestTenCommits plays ten commits of which three clash in one file: it is asked once, and a merge
// comes of it; a single commit can be replayed with what was decided.
func TestTenCommits(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.write("gauge", map[string]string{"notes.txt": "theirs\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Theirs")
	for i := range 10 {
		name := fmt.Sprintf("file-%d.txt", i)
		if i%3 == 1 {
			name = "notes.txt"
		}
		launch.write("gauge", map[string]string{name: fmt.Sprintf("mine %d\n", i)})
		launch.git("gauge", "add", "-A")
		launch.git("gauge", "commit", "-q", "-m", fmt.Sprintf("Mine %d", i))
	}
	launch.refused(3, []string{"both sides changed the same file on main: 10 commits only here"}, "gauge", "", "sync")
	assert.NotContains(t, launch.ok("gauge", "", "settle"), "--by replay")
	launch.refused(3, []string{"replayed one by one, your commits clash in other ways", "uncinate sync\n"}, "gauge", "", "settle", "mine", "--by", "replay")
	assert.Contains(t, launch.ok("gauge", "", "settle"), "All is decided. To finish: uncinate sync\n")
	said := launch.ok("gauge", "", "sync")
	assert.Contains(t, said, "merged it with 10 commits of yours")
	assert.Equal(t, "mine 7\n", read(t, filepath.Join(launch.home, "gauge/notes.txt")))
	assert.Equal(t, "Mine 9 Theirs", strings.Join(strings.Fields(launch.git("gauge", "log", "-1", "--format=%s", "HEAD^1")+" "+launch.git("gauge", "log", "-1", "--format=%s", "HEAD^2")), " "), "a merge of both ends")

	pier.ok("gauge", "", "sync")
	pier.write("gauge", map[string]string{"notes.txt": "theirs again\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Theirs again")
	launch.write("gauge", map[string]string{"notes.txt": "mine again\n", "plan.txt": "plan\n"})
	launch.refused(3, []string{"both sides changed the same file"}, "gauge", "", "sync", "--save", "--message", "Mine again")
	assert.Contains(t, launch.ok("gauge", "", "settle"), "with --by replay, your commit is put on top of theirs instead")
	said = launch.ok("gauge", "", "settle", "mine", "--by", "replay")
	assert.Contains(t, said, "Received 1 commit, and sent 1 commit on top of it.")
	assert.Equal(t, "Mine again\nTheirs again", launch.git("gauge", "log", "-2", "--format=%s"))
	assert.Equal(t, "mine again\n", read(t, filepath.Join(launch.home, "gauge/notes.txt")))
}

// TestSettleKilled kills the command that finishes, at many places; what was decided stays, and the
// next command goes on.
func TestSettleKilled(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	step := 12
	if os.Getenv("UNCINATE_SOAK") != "" {
		step = 1
	}
	for after, killed := step, true; killed; after += step {
		name := fmt.Sprintf("plan-%d.dwg", after)
		pier.ok("gauge", "", "sync")
		pier.write("gauge", map[string]string{name: "\x00theirs", "notes.txt": "theirs " + name})
		pier.ok("gauge", "", "sync", "--save", "--message", "Theirs")
		launch.write("gauge", map[string]string{name: "\x00mine", "notes.txt": "mine " + name})
		require.Equal(t, 3, launch.command("gauge", "", program, "sync", "--save", "--message", "Mine").code)
		require.Equal(t, 0, launch.command("gauge", "", program, "settle", "both", name).code)
		killed = launch.killsGit("gauge", after, "settle", "mine")
		launch.free()
		r := launch.command("gauge", "", program, "settle", "mine")
		if r.code == 1 && strings.Contains(r.err, "nothing clashes") { // it had been decided, and done
			r = launch.command("gauge", "", program, "sync")
		}
		require.Equal(t, 0, r.code, "after %d runs of git: %s%s", after, r.out, r.err)
		assert.Equal(t, "\x00theirs", read(t, filepath.Join(launch.home, "gauge", name)))
		assert.Equal(t, "mine "+name, read(t, filepath.Join(launch.home, "gauge/notes.txt")))
		beside, err := filepath.Glob(filepath.Join(launch.home, "gauge", strings.TrimSuffix(name, ".dwg")+".from-*"))
		require.NoError(t, err)
		require.Len(t, beside, 1, "after %d runs of git", after)
		assert.Equal(t, "\x00mine", read(t, beside[0]))
		assert.Empty(t, launch.git("gauge", "status", "--porcelain"))
		assert.Equal(t, launch.id("gauge", "HEAD"), launch.git("gauge", "ls-remote", "-q", "origin", "refs/heads/main")[:40])
	}
	left, err := filepath.Glob(filepath.Join(launch.home, ".uncinate/state/settling/*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestPushedMeanwhile plays a push that comes between the stop and the decisions: those that are about
// the same hold.
func TestPushedMeanwhile(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.write("gauge", map[string]string{"a.txt": "theirs\n", "b.txt": "theirs\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Theirs")
	launch.write("gauge", map[string]string{"a.txt": "mine\n", "b.txt": "mine\n"})
	launch.refused(3, nil, "gauge", "", "sync", "--save", "--message", "Mine")
	assert.Contains(t, launch.ok("gauge", "", "settle", "mine", "a.txt"), "a.txt stays yours.\n1 file left: b.txt.")
	pier.write("gauge", map[string]string{"b.txt": "theirs again\n", "c.txt": "theirs\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Theirs again")
	launch.refused(3, []string{"both sides changed the same file on main", "b.txt, changed on the host by", "(Theirs again)", "1 more ends as you decided before", "uncinate settle\n"}, "gauge", "", "settle", "theirs", "b.txt")
	assert.Equal(t, "mine\n", read(t, filepath.Join(launch.home, "gauge/b.txt")))
	launch.ok("gauge", "", "settle", "theirs")
	assert.Equal(t, "mine\n", read(t, filepath.Join(launch.home, "gauge/a.txt")))
	assert.Equal(t, "theirs again\n", read(t, filepath.Join(launch.home, "gauge/b.txt")))
	launch.refused(1, []string{"nothing clashes", "uncinate sync"}, "gauge", "", "settle", "mine")

	// Given up, and plain git did it.
	pier.ok("gauge", "", "sync")
	pier.write("gauge", map[string]string{"a.txt": "once more\n", "b.txt": "once more\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Once more")
	launch.write("gauge", map[string]string{"a.txt": "mine once more\n", "b.txt": "mine once more\n"})
	launch.refused(3, nil, "gauge", "", "sync", "--save", "--message", "Mine once more")
	launch.ok("gauge", "", "settle", "mine", "a.txt")
	assert.Contains(t, launch.ok("gauge", "", "settle", "cancel", "--preview"), "Would drop 1 decision.")
	assert.Contains(t, launch.ok("gauge", "", "settle", "cancel"), "Dropped 1 decision; every file is as it was.")
	assert.Contains(t, launch.ok("gauge", "", "settle", "cancel"), "Nothing waits to be decided.")
	assert.Contains(t, launch.ok("gauge", "", "settle"), "2 files clash on main")
	launch.git("gauge", "merge", "-q", "-X", "theirs", "origin/main")
	assert.Contains(t, launch.ok("gauge", "", "settle"), "Nothing clashes")
	assert.Contains(t, launch.ok("gauge", "", "sync"), "Sent 2 commits.")
}

// TestRewrittenAndClashing plays a branch that was rewritten on the host, with commits here that clash
// with it: they become one on top of it.
func TestRewrittenAndClashing(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.write("gauge", map[string]string{"notes.txt": "first\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "First")
	launch.ok("gauge", "", "sync")
	for i := range 2 {
		launch.write("gauge", map[string]string{"notes.txt": fmt.Sprintf("mine %d\n", i)})
		launch.git("gauge", "commit", "-q", "-a", "-m", fmt.Sprintf("Mine %d", i))
	}
	pier.write("gauge", map[string]string{"notes.txt": "rewritten\n"})
	pier.git("gauge", "commit", "-q", "-a", "--amend", "-m", "Rewritten")
	pier.git("gauge", "push", "-q", "--force", "origin", "main")
	launch.refused(3, []string{"both sides changed the same file on main"}, "gauge", "", "sync")
	launch.refused(3, []string{"The history of main was rewritten on the host", "put your own commits on top again, as one: notes.txt stays yours", "uncinate settle mine --yes"}, "gauge", "", "settle", "mine")
	launch.ok("gauge", "", "sync", "--yes")
	assert.Equal(t, "mine 1\n", read(t, filepath.Join(launch.home, "gauge/notes.txt")))
	assert.Equal(t, "Mine 0\n\nMine 1", launch.git("gauge", "log", "-1", "--format=%B"))
	assert.Equal(t, pier.id("gauge", "HEAD"), launch.id("gauge", "HEAD^"))
	assert.Contains(t, launch.ok("gauge", "", "rescue", "show", "2"), "Mine 1")
}

// TestMergersAreAskedAbout holds that a program that merges files runs once it was agreed to in a copy,
// and that attributes are heeded.
func TestMergersAreAskedAbout(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	pier.write("gauge", map[string]string{".gitattributes": "*.tab merge=table\n*.all merge=union\n*.raw -merge\n", "a.tab": "one\n", "a.all": "one\n", "a.raw": "1\n2\n3\n4\n5\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Tables")
	launch.ok("gauge", "", "sync")
	ran := filepath.Join(launch.home, "ran")
	launch.git("", "config", "--global", "merge.table.driver", "echo ran >> "+ran+"; cat %B >> %A; sort -o %A %A")
	pier.write("gauge", map[string]string{"a.tab": "three\n", "a.all": "theirs\n", "a.raw": "1!\n2\n3\n4\n5\n"})
	pier.ok("gauge", "", "sync", "--save", "--message", "Theirs")
	launch.write("gauge", map[string]string{"a.tab": "two\n", "a.all": "mine\n", "a.raw": "1\n2\n3\n4\n5!\n"})
	launch.ok("gauge", "", "save", "Mine")
	launch.ok("gauge", "", "status")
	launch.refused(3, []string{"merged by a program of your own, which has not run in this copy yet", "merge.table.driver = echo ran", "uncinate sync --yes"}, "gauge", "", "sync")
	assert.NoFileExists(t, ran)
	launch.refused(3, []string{"Files that both sides changed are merged by a program", "both sides changed the same file on main", "a.raw, changed"}, "gauge", "", "sync", "--yes")
	assert.FileExists(t, ran)
	launch.ok("gauge", "", "settle", "theirs")
	assert.Equal(t, "three\ntwo\n", read(t, filepath.Join(launch.home, "gauge/a.tab")))
	assert.Equal(t, "mine\ntheirs\n", read(t, filepath.Join(launch.home, "gauge/a.all")))
	assert.Equal(t, "1!\n2\n3\n4\n5\n", read(t, filepath.Join(launch.home, "gauge/a.raw")))
}

// TestForeseeingIsBounded holds that no more is brought than is set, and that the store is ours.
func TestForeseeingIsBounded(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	pier, launch, _ := shared(t, h)
	noise := make([]byte, 6<<20)
	rand.NewChaCha8([32]byte{}).Read(noise)
	pier.write("gauge", map[string]string{"notes.txt": "theirs\n", "noise.bin": string(noise)})
	pier.ok("gauge", "", "sync", "--save", "--message", "A large one", "--many")
	launch.write("gauge", map[string]string{"notes.txt": "mine\n"})
	launch.refused(2, []string{"a number of megabytes from 0 to 100,000, not some"}, "", "", "settings", "set", "foresee.megabytes", "some")
	launch.ok("", "", "settings", "set", "foresee.megabytes", "2")
	said := launch.ok("gauge", "", "status")
	assert.Contains(t, said, "More than 2.1 MB is new on the host, so it was not looked through: uncinate sync")
	assert.NotContains(t, said, "Changed on the host too")
	store := filepath.Join(launch.home, "gauge/.git/uncinate/seen.git")
	assert.NoDirExists(t, store, "nothing of it stays")
	launch.ok("", "", "settings", "set", "foresee.megabytes", "0")
	assert.Contains(t, launch.ok("gauge", "", "status"), "was not looked through (setting foresee.megabytes)")
	launch.ok("", "", "settings", "unset", "foresee.megabytes")

	// What came with the folder in its place is not run, and is made again.
	require.NoError(t, os.MkdirAll(filepath.Join(store, "hooks"), 0o755))
	launch.git("", "init", "-q", "--bare", store)
	launch.git("", "-C", store, "config", "uploadpack.packObjectsHook", "touch "+filepath.Join(launch.home, "ran"))
	for _, hook := range []string{"reference-transaction", "post-checkout"} {
		require.NoError(t, os.WriteFile(filepath.Join(store, "hooks", hook), []byte("#!/bin/sh\ntouch "+filepath.Join(launch.home, "ran")+"\n"), 0o755))
	}
	assert.Contains(t, launch.ok("gauge", "", "status"), "Changed on the host too:\n  notes.txt  Tern of Saltmarsh, just now: A large one\n")
	assert.NoFileExists(t, filepath.Join(launch.home, "ran"))
}
