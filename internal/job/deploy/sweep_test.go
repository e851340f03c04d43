package deploy

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/desk"
)

// TestSweep removes the states that nobody needs, and no other: by when they went out of use, also where the clock goes
// back, and where a process works in one.
func TestSweep(t *testing.T) {
	day := 24 * time.Hour
	now := time.Date(2026, 5, 3, 12, 0, 0, 0, time.UTC)
	for _, c := range []struct {
		what       string
		made, left time.Duration // before now
		clock      time.Duration // by which the clock was changed
		days       int
		stays      bool
	}{
		{"it is in use", 40 * day, 0, 0, 14, true},
		{"it was in use before", 40 * day, 30 * day, 0, 14, true},
		{"it was left long ago", 40 * day, 15 * day, 0, 14, false},
		{"it was made long ago, and left a minute ago", 40 * day, time.Minute, 0, 0, true},
		{"it was left eleven minutes ago, and none are kept", 40 * day, 11 * time.Minute, 0, 0, false},
		{"it was left, and the clock went back", 40 * day, 20 * time.Minute, -time.Hour, 0, true},
		{"it was never whole", -1, 0, 0, 14, false},
		{"a process works in it", 40 * day, 15 * day, 0, 14, true},
	} {
		x := Deploy{Name: "srv", Folder: filepath.Join(t.TempDir(), "srv"), Days: c.days}
		id := func(digit string) string { return strings.Repeat(digit, 40) }
		for _, d := range []string{"a", "b", "c"} {
			require.NoError(t, os.MkdirAll(x.at(id(d)), 0o755))
		}
		require.NoError(t, os.MkdirAll(x.at("new-"+id("d")), 0o755))
		u := &update{x: x, desk: &desk.Desk{Now: func() time.Time { return now.Add(c.clock) }}, state: &State{Head: id("a"), Before: id("b"), Built: map[string]Built{id("a"): {Made: now.Add(-60 * day)}, id("b"): {Made: now.Add(-60 * day), Left: now.Add(-30 * day)}}}}
		require.NoError(t, os.Symlink(filepath.Join("srv.uncinate", id("a")), x.Folder))
		looked := id("c")
		switch c.what {
		case "it is in use":
			looked = id("a")
		case "it was in use before":
			looked = id("b")
		}
		if looked == id("c") && c.made >= 0 {
			u.state.Built[looked] = Built{Made: now.Add(-c.made), Left: now.Add(-c.left)}
		}
		if strings.HasPrefix(c.what, "a process") {
			p := exec.Command("sleep", "60")
			p.Dir = x.at(looked)
			require.NoError(t, p.Start())
			defer func() { require.NoError(t, p.Process.Kill()); _ = p.Wait() }()
			require.Eventually(t, func() bool {
				at, err := os.Readlink(fmt.Sprintf("/proc/%d/cwd", p.Process.Pid))
				return err == nil && at == p.Dir
			}, 5*time.Second, time.Millisecond)
		}
		require.NoError(t, u.sweep())
		_, err := os.Stat(x.at(looked))
		assert.Equal(t, c.stays, err == nil, c.what)
		assert.NoDirExists(t, x.at("new-"+id("d")), "what a run left that was cut off")
	}
}
