package screen

import (
	"context"
	"strings"
	"testing"
	"time"

	"github.com/mattn/go-runewidth"
	"github.com/stretchr/testify/assert"

	"uncinate/internal/core/difference"
	"uncinate/internal/core/fault"
	"uncinate/internal/job/attach"
	"uncinate/internal/job/comparing"
	"uncinate/internal/job/history"
	"uncinate/internal/job/many"
	"uncinate/internal/job/syncing"
)

// TestBoardFitsItsTerminal holds that each project has one line, at any width.
func TestBoardFitsItsTerminal(t *testing.T) {
	now := time.Now()
	rows := []many.Row{
		{Name: "a-project-with-quite-a-long-name-of-its-own", Branch: "a/branch/of/some/length", State: "both", Says: strings.Repeat("3 commits only here; ", 6), Contact: now.Add(-3 * time.Hour)},
		{Name: "潮位計", Branch: "main", State: "broken", Says: "git says \x1b[31mno", Contact: now},
		{Name: "missing", State: "missing", Says: "its folder is no longer there"},
		{Name: "quiet", Branch: "main", State: "in step", Rescues: 2},
	}
	for _, width := range []int{60, 80, 100, 140} {
		e, out, _ := env()
		e.Out.width = width
		e.board(rows, now, true)
		lines := strings.Split(out.String(), "\n")
		for _, l := range lines[:5] {
			assert.LessOrEqual(t, runewidth.StringWidth(l), width, "%q", l)
		}
		assert.NotContains(t, out.String(), "\x1b")
		assert.Contains(t, lines[1], "...")
		assert.Contains(t, lines[1], "3 h")
		assert.Contains(t, lines[2], "just now")
		assert.NotContains(t, lines[3], "never")
		assert.Contains(t, out.String(), "4 projects, 1 in step.")
		assert.Equal(t, 1, strings.Count(out.String(), "sync --all"), "what is next is said once")
	}
	e, out, _ := env()
	e.Out.width = 0
	e.board(rows, now, true)
	assert.Contains(t, out.String(), strings.TrimSpace(strings.Repeat("3 commits only here; ", 6)), "nothing is cut where there is no width")
}

// TestHistoryKeepsItsSubjects holds that what decorates a commit gives way before its subject does.
func TestHistoryKeepsItsSubjects(t *testing.T) {
	title := "Correct the level by the datum"
	h := &history.History{Commits: []history.Commit{{ID: strings.Repeat("a", 40), Where: "both", Who: "Tern of Saltmarsh", Title: title, Names: []string{"refs/heads/main", "refs/remotes/origin/main", "refs/tags/v1.4.0"}}}}
	for width, whole := range map[int]bool{80: false, 140: true} {
		e, out, _ := env()
		e.Out.width = width
		e.history(context.Background(), h, history.HistoryOptions{})
		assert.Contains(t, out.String(), title)
		assert.Equal(t, whole, strings.Contains(out.String(), "[main, origin/main, v1.4.0]"), out.String())
		for line := range strings.Lines(out.String()) {
			assert.LessOrEqual(t, runewidth.StringWidth(strings.TrimSpace(line)), width)
		}
	}
}

// TestDifferenceIsShown holds that the words that differ are marked on a terminal, and that
// control characters are shown.
func TestDifferenceIsShown(t *testing.T) {
	e, _, _ := env()
	e.Out.bold = true
	f := comparing.ChangedFile{File: difference.Parse("diff --git a/x b/x\n--- a/x\n+++ b/x\n@@ -1,2 +1,2 @@ func\n-high \x1b[2J water at nine\n+high \x1b[2J water at ten\n same\tthing\n")[0]}
	var b strings.Builder
	e.difference(&b, f)
	assert.Contains(t, drawn(b.String()), "-high \\x1b[2J water at \x1b[1mnine\x1b[0m\n")
	assert.Contains(t, drawn(b.String()), "+high \\x1b[2J water at \x1b[1mten\x1b[0m\n")
	assert.Contains(t, drawn(b.String()), " same    thing\n")
	assert.Contains(t, drawn(b.String()), "changed, 1 added, 1 removed")
	for want, x := range map[string]comparing.ChangedFile{
		"image/png, 12 B before, 14 B now": {File: difference.File{Kind: "changed", Binary: true}, Is: "image/png", Before: 12, Bytes: 14},
		"binary, 12 B as before":           {File: difference.File{Kind: "changed", Binary: true}, Before: 12, Bytes: 12},
		"binary, 12 B":                     {File: difference.File{Kind: "deleted", Binary: true}, Before: 12},
		"3.0 MB, too large to be shown":    {File: difference.File{Kind: "new"}, Bytes: 3e6, Large: true},
		"mode 100644 to 100755":            {File: difference.File{Kind: "changed", Mode: "100644 to 100755"}},
	} {
		assert.Equal(t, want, extent(x))
	}
}

// TestManyAreToldOf holds what is said of many projects, and that what is to be pasted
// works from anywhere.
func TestManyAreToldOf(t *testing.T) {
	assert.Equal(t, "cd /x/y && uncinate sync", inItsFolder(many.SyncedRow{Folder: "/x/y", Remedies: []string{"uncinate sync"}}))
	assert.Equal(t, "uncinate sync /x/y", inItsFolder(many.SyncedRow{Folder: "/x/y", Remedies: []string{"uncinate sync /x/y"}}))
	assert.Equal(t, "git -C /z status", inItsFolder(many.SyncedRow{Folder: "/x/y", Remedies: []string{"git -C /z status"}}))
	for want, r := range map[string]*syncing.Synced{
		"received 2 commits":                                 {Received: 2},
		"sent 1 commit":                                      {Sent: 1},
		"saved, and in step":                                 {Saved: "x"},
		"took the branch as rewritten on the host":           {Rewritten: true},
		"received 1 commit, and sent 2 commits on top of it": {Received: 1, Sent: 2, Together: "replay"},
		"received 1 commit, merged it with 2 commits of yours, and sent that": {Received: 1, Sent: 2, Together: "merge"},
	} {
		assert.Equal(t, want, did(r))
	}
	assert.Equal(t, "packages by package.json; packages by Cargo.toml in a, b, c and 2 more", inside([]attach.Inside{{Kind: "packages by package.json", Folders: []string{"."}}, {Kind: "packages by Cargo.toml", Folders: []string{"a", "b", "c", "d", "e"}}}))
	_, err := number("0")
	assert.True(t, fault.Is(err, fault.Usage))
	e, out, _ := env()
	e.left(make([]history.LeftOut, 12))
	assert.Contains(t, out.String(), "Left out: 12 files.")
	assert.Contains(t, out.String(), "and 4 more")
}

// TestVisibly holds that a file's contents do not rule the terminal.
func TestVisibly(t *testing.T) {
	e, out, _ := env()
	n, err := visibly{e.Out}.Write([]byte("a\tb\n\x1b]0;title\x07\nno end"))
	assert.NoError(t, err)
	assert.Equal(t, 21, n)
	assert.Equal(t, "a    b\n\\x1b]0;title\\x07\nno end", out.String())
}
