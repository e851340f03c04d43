package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// stands types the program's name alone, and gives what it says: at most five lines, the last where help is.
func (m *machine) stands(dir string) string {
	m.t.Helper()
	out := m.ok(dir, "")
	lines := strings.Split(strings.TrimSpace(out), "\n")
	assert.LessOrEqual(m.t, len(lines), 5, out)
	assert.Equal(m.t, "All commands:  uncinate help", lines[len(lines)-1])
	return out
}

// TestTheNameAlone says where one stands, and the one next thing to type, from nothing to all in step.
func TestTheNameAlone(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	assert.Contains(t, m.stands(""), "uncinate tour", "in the home folder, with nothing set up")
	m.write("gauge", map[string]string{"level.txt": "3\n"})
	assert.Regexp(t, `gauge is not attached to a repository yet\.\n.*\n.*uncinate tour\nNext: +uncinate attach\n`, m.stands("gauge"))
	m.signIn(h)
	assert.Contains(t, m.stands(""), "No project is attached")
	assert.NotContains(t, m.stands("gauge"), "your account", "it is there")
	require.True(t, m.killAt("gauge", 4, "attach", "--yes"), "it was quicker than the test")
	assert.Regexp(t, `was cut off, and is not finished\.\nNext: +uncinate attach\n`, m.stands("gauge"))
	m.ok("gauge", "", "attach", "--yes")
	assert.Regexp(t, `gauge, branch main, attached to http://.*\nin step\nThere is nothing to do\.\n`, m.stands("gauge"))
	assert.Regexp(t, `1 project is attached on this machine\.\nNext: +uncinate status --all\n`, m.stands(""))

	m.write("gauge", map[string]string{"level.txt": "4\n"})
	assert.Regexp(t, `1 changed file, not saved; in step\nNext: +uncinate save --message "What was done"`, m.stands("gauge"))
	m.ok("gauge", "", "save", "--message", "Read again")
	assert.Regexp(t, `1 commit not sent\nNext: +uncinate sync\n`, m.stands("gauge"))
	m.ok("gauge", "", "sync")
	m.ok("", "", "clone", "gauge", "copy")
	m.write("copy", map[string]string{"there.txt": "there\n"})
	m.ok("copy", "", "sync", "--save", "--message", "There")
	assert.Regexp(t, `new commits on the host\nNext: +uncinate sync\n`, m.stands("gauge"))
	m.ok("gauge", "", "sync")
	m.write("gauge", map[string]string{"new.txt": "new\n"})
	before := tree(t, filepath.Join(m.home, "gauge"))
	m.stands("gauge")
	assert.Equal(t, before, tree(t, filepath.Join(m.home, "gauge")), "it looks, and changes nothing")
}

// TestTheNameAloneElsewhere says the same where something is the matter: clashes, no answer, a slow host, no git, a closed vault.
func TestTheNameAloneElsewhere(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.ok("", "", "clone", "gauge", "copy")
	for _, in := range []string{"copy", "gauge"} {
		m.write(in, map[string]string{"clash.txt": in + "\n"})
		m.ok(in, "", "save", "--message", "In "+in)
	}
	m.ok("copy", "", "sync")
	assert.Regexp(t, `new commits on the host, and 1 commit not sent\nNext: +uncinate sync\n`, m.stands("gauge"))
	require.Equal(t, 3, m.run("gauge", "", "sync").code)
	assert.Regexp(t, `1 file changed on both sides: clash.txt; .*\nNext: +uncinate settle\n`, m.stands("gauge"))

	m.ok("", "seven tall masts\n", "vault", "change", "--by", "passphrase")
	m.ok("", "", "vault", "lock")
	k := m.talk("gauge")
	code, screen := k.ends()
	assert.Equal(t, 0, code, screen)
	assert.Contains(t, screen, "All commands:", "a locked vault is not asked for")
	assert.NotContains(t, screen, "Passphrase")
	m.ok("", "seven tall masts\n", "vault", "unlock")
	t.Cleanup(func() { m.run("", "", "vault", "lock") })

	require.NoError(t, h.Faults.Set([]string{"delay=20s"}))
	began := time.Now()
	assert.Contains(t, m.stands("gauge"), "as last seen; no answer from the host: it took too long")
	assert.Less(t, time.Since(began), 15*time.Second)
	require.NoError(t, h.Faults.Set(nil))
	require.NoError(t, h.Close())
	assert.Contains(t, m.stands("gauge"), "no answer from the host")
	require.NoError(t, os.RemoveAll(filepath.Join(m.home, "gauge/.git/HEAD")))
	m.stands("gauge")
}

// TestFirstAttachFromNothing leads from no host at all through host, account and vault to an attached project.
func TestFirstAttachFromNothing(t *testing.T) {
	t.Parallel()
	h := newHost(t)
	m := newMachine(t)
	m.project("gauge")
	k := m.talk("gauge", "attach")
	k.asked("Your host (Enter to stop): ", "\n")
	code, screen := k.ends()
	require.Equal(t, 3, code, screen)
	assert.Contains(t, screen, "uncinate attach --to ADDRESS")
	k = m.talk("gauge", "attach")
	k.asked("Your host (Enter to stop): ", h.URL+"\n")
	k.asked("Go ahead? (yes or no)", "yes\n")
	k.asked("(Enter for passphrase) ", "file\n")
	k.asked("(it is not shown): ", h.token["tern"]+"\n")
	k.asked("Go ahead? (yes or no)", "yes\n")
	code, screen = k.ends()
	require.Equal(t, 0, code, screen)
	assert.Contains(t, screen, "Attached.")
	assert.NotContains(t, screen, h.token["tern"])
}
