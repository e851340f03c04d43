package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// large makes a file of a size that holds almost nothing.
func (m *machine) large(path string, size int64) {
	m.t.Helper()
	full := filepath.Join(m.home, path)
	require.NoError(m.t, os.MkdirAll(filepath.Dir(full), 0o755))
	f, err := os.Create(full)
	require.NoError(m.t, err)
	require.NoError(m.t, f.Truncate(size))
	require.NoError(m.t, f.Close())
}

// TestLimitsOfTheHost warns of files near the host's limit and stops those beyond it,
// in the folder and in commits.
func TestLimitsOfTheHost(t *testing.T) {
	t.Parallel()
	h := newHostOf(t, "fulmar") // which takes 20 MiB
	m := newMachine(t)
	m.ok("", "", "host", "add", "fulmar", "--at", h.URL)
	m.ok("", "", "vault", "make", "--by", "file")
	m.ok("", h.token["tern"]+"\n", "account", "add", "--host", "fulmar", "--user", "tern")
	m.project("gauge")
	m.large("gauge/tide.dwg", 12<<20)
	m.large("gauge/harbour.dwg", 21<<20)
	s := m.survey("gauge")
	assert.Equal(t, "fulmar", s.Host)
	assert.Equal(t, "look: has 13 MB; each change of it is kept whole for ever", said(s, "tide.dwg"))
	assert.Equal(t, "stop: has 22 MB, and fulmar takes files of 19 MB at most", said(s, "harbour.dwg"))
	err := m.refused(4, []string{"1 file would go up that must not", "harbour.dwg has 22 MB", "uncinate ignore add harbour.dwg"}, "gauge", "", "attach", "--yes")
	assert.NotContains(t, err, "tide.dwg")
	assert.Empty(t, h.Store.List("tern", ""))

	m.commit("gauge", "main")
	m.refused(4, []string{"harbour.dwg has 22 MB, and fulmar takes files of 19 MB at most, since commit "}, "gauge", "", "attach", "--yes")
	require.NoError(t, os.RemoveAll(filepath.Join(m.home, "gauge/.git")))
	m.ok("gauge", "", "ignore", "add", "harbour.dwg")
	r := m.run("gauge", "", "attach", "--yes")
	require.Equal(t, 0, r.code, r.err)
	assert.Contains(t, r.err, "tide.dwg has 13 MB; each change of it is kept whole for ever")

	// Without a host only what is large anywhere is spoken of.
	n := newMachine(t)
	n.write("gauge", map[string]string{"a": "x"})
	n.large("gauge/tide.dwg", 12<<20)
	n.large("gauge/film.mp4", 60<<20)
	s = n.survey("gauge")
	assert.Empty(t, s.Host)
	assert.Empty(t, said(s, "tide.dwg"))
	assert.Equal(t, "look: has 63 MB; each change of it is kept whole for ever", said(s, "film.mp4"))
	n.refused(1, []string{"no host named gannet is known"}, "", "", "survey", "--host", "gannet", "gauge")
}

// TestSurveyIsReadAtAGlance looks at the very words, in a narrow terminal without
// UTF-8 too.
func TestSurveyIsReadAtAGlance(t *testing.T) {
	t.Parallel()
	m := newMachine(t)
	contents := map[string]string{"README.md": strings.Repeat("x", 500), "src/level.c": strings.Repeat("x", 1500)}
	for _, n := range []string{"a", "b", "c", "d", "e"} {
		contents["gen/"+n+".c"] = "/* automatically generated */\n"
		contents["build/"+n+".o"] = strings.Repeat("\x7f", 2000)
	}
	m.write("gauge", contents)
	want := `gauge: 7 files, 2.1 kB would go up; 5 stay.
Made of C and C++ sources, a build folder of compiled sources.

folder  goes up    stays
build/  -          5, 10 kB  ░░░░░░░░░░░░  made by the build
src/    1, 1.5 kB  -         █
(here)  1, 500 B   -         █
gen/    5, 150 B   -         █

Good to know:
  5 files of which each says that a program wrote it: gen/a.c, gen/b.c, gen/c.c and 2 more
`
	r := m.run("", "", "survey", "gauge")
	require.Equal(t, 0, r.code)
	assert.Equal(t, want, r.out)
	assert.Equal(t, "\nThe first attach writes 2 ignore rules for what stays and what a build will make; to write them now:\n    uncinate ignore add --suggested --folder gauge\n", r.err)
	m.env = append(m.env, "LC_ALL=C", "COLUMNS=60")
	r = m.run("gauge", "", "survey")
	assert.Contains(t, r.out, "............")
	for line := range strings.SplitSeq(r.out, "\n") {
		assert.LessOrEqual(t, len(line), 60, line)
		assert.Empty(t, strings.Trim(line, " !\"#$%&'()*+,-./0123456789:;<=>?@ABCDEFGHIJKLMNOPQRSTUVWXYZ[\\]^_`abcdefghijklmnopqrstuvwxyz{|}~"), "ASCII alone")
	}
	full := m.ok("gauge", "", "survey", "--full")
	for _, n := range []string{"a", "b", "c", "d", "e"} {
		assert.Contains(t, full, "gen/"+n+".c says that a program wrote it")
	}
	assert.Contains(t, full, "generated")
	assert.Contains(t, m.ok("gauge", "", "survey", "--quiet"), "7 files")
	assert.Contains(t, m.ok("gauge", "", "survey", "--only", "src"), "1 file, 1.5 kB would go up; 11 stay.")
}
