package difference

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOfGit reads what git itself writes, and puts the new file together from it.
func TestOfGit(t *testing.T) {
	dir := t.TempDir()
	run := func(args ...string) string {
		out, err := exec.Command("git", append([]string{"-C", dir, "-c", "user.name=T", "-c", "user.email=t@skerry.example"}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	write := func(name, s string) { require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(s), 0o644)) }
	run("init", "-q")
	write("level.c", "int level;\nint height = 3;\n--- odd\nend")
	write("a b.txt", "one\n")
	write("gone", "x\n")
	write("möwe", "x\n")
	write("old", strings.Repeat("line\n", 20))
	write("pic", "\x00\x01")
	run("add", "-A")
	run("commit", "-q", "-m", "one")
	write("level.c", "int level;\nint height = 4;\n+++ odd\nend\n")
	write("a b.txt", "one\ntwo\n")
	write("möwe", "y\n")
	write("pic", "\x00\x02")
	write("fresh", "new\n")
	require.NoError(t, os.Chmod(filepath.Join(dir, "a b.txt"), 0o755))
	require.NoError(t, os.Remove(filepath.Join(dir, "gone")))
	run("mv", "old", "new name")
	run("add", "-A")
	got := map[string]File{}
	for _, f := range Parse(run("diff", "-M", "HEAD")) {
		got[f.Path] = f
	}
	require.Len(t, got, 7)
	assert.Equal(t, "new", got["fresh"].Kind)
	assert.Equal(t, "deleted", got["gone"].Kind)
	assert.Equal(t, "renamed", got["new name"].Kind)
	assert.Equal(t, "old", got["new name"].From)
	assert.True(t, got["pic"].Binary)
	assert.Equal(t, "100644 to 100755", got["a b.txt"].Mode)
	assert.Equal(t, []int{1, 1}, []int{got["möwe"].Added, got["möwe"].Removed})
	level := got["level.c"]
	assert.Equal(t, []int{3, 3}, []int{level.Added, level.Removed})
	var side []string
	for _, l := range level.Hunks[0].Lines {
		if l.Kind == "same" || l.Kind == "added" {
			side = append(side, l.Text)
		}
	}
	assert.Equal(t, []string{"int level;", "int height = 4;", "+++ odd", "end"}, side)
	assert.Equal(t, "3", level.Hunks[0].Lines[1].Text[level.Hunks[0].Lines[1].Mark[0].From:level.Hunks[0].Lines[1].Mark[0].To])
}

func TestWords(t *testing.T) {
	for _, c := range []struct{ a, b, inA, inB string }{
		{"high water at nine", "high water at ten", "nine", "ten"},
		{"f(a, b)", "f(a, b, c)", "", ", c"},
		{"höhe = 3;", "höhe = 40;", "3", "40"},
		{"nothing alike", "quite other words", "", ""},
		{"", "x", "", ""},
	} {
		inA, inB := Words(c.a, c.b)
		cut := func(s string, all []Span) (out string) {
			for _, x := range all {
				out += s[x.From:x.To]
			}
			return out
		}
		assert.Equal(t, [2]string{c.inA, c.inB}, [2]string{cut(c.a, inA), cut(c.b, inB)}, c.a)
	}
}

// FuzzParse holds that no text breaks the reader, and that every mark is in its line.
func FuzzParse(f *testing.F) {
	f.Add("diff --git a/x b/x\n--- a/x\n+++ b/x\n@@ -1,2 +1,2 @@\n-a b\n+a c\n d\n\\ No newline\n")
	f.Fuzz(func(t *testing.T, s string) {
		for _, file := range Parse(s) {
			for _, h := range file.Hunks {
				for _, l := range h.Lines {
					for _, m := range l.Mark {
						if m.From < 0 || m.To > len(l.Text) || m.From >= m.To {
							t.Fatalf("%v in %q", m, l.Text)
						}
					}
				}
			}
		}
	})
}
