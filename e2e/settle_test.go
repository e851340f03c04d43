package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/job/settling"
)

// files are what a commit holds: by path a text, or "x:" and an executable one, "l:" and where a
// link leads, "s:" and the commit of a repository inside.
type contents map[string]string

// twelve is a text that is known again when it is renamed.
func twelve(of string) string {
	var b strings.Builder
	for i := range 12 {
		fmt.Fprintf(&b, "%s, line %d\n", of, i+1)
	}
	return b.String()
}

// instead is such a text with another fifth line.
func instead(of, line string) string {
	return strings.Replace(twelve(of), of+", line 5\n", line+"\n", 1)
}

// clashKind is one kind of clash: what was, and what either side made of it.
type clashKind struct {
	name               string
	base, mine, theirs contents
	says               string   // of the clash
	hand, made         string   // the path that is made by hand, and what stands there then; "" where that is none
	beside             contents // what of mine is put beside: its name without the machine → contents
	merged             contents // in any way: what merges by itself
}

const oneInside, otherInside = "s:1111111111111111111111111111111111111111", "s:2222222222222222222222222222222222222222"

var clashKinds = []clashKind{
	{name: "changed", base: contents{"f": twelve("f")}, mine: contents{"f": instead("f", "mine")}, theirs: contents{"f": instead("f", "theirs")},
		says: "both sides changed it", hand: "f", made: instead("f", "mine\ntheirs"), beside: contents{"f.from-": instead("f", "mine")}},
	{name: "binary", base: contents{"plan.dwg": "\x00one"}, mine: contents{"plan.dwg": "\x00mine"}, theirs: contents{"plan.dwg": "\x00theirs"},
		says: "both sides changed it", beside: contents{"plan.from-.dwg": "\x00mine"}},
	{name: "deleted-here", base: contents{"f": twelve("dh"), "g": "g\n"}, mine: contents{"g": "g\n"}, theirs: contents{"f": instead("dh", "theirs"), "g": "g\n"}, says: "deleted here, changed %s", hand: "f", made: instead("dh", "theirs")},
	{name: "deleted-there", base: contents{"f": twelve("dt"), "g": "g\n"}, mine: contents{"f": instead("dt", "mine"), "g": "g\n"}, theirs: contents{"g": "g\n"}, says: "changed here, deleted %s", hand: "f", made: instead("dt", "mine")},
	{name: "added", mine: contents{"f": "added, mine\n"}, theirs: contents{"f": "added, theirs\n"}, says: "both sides added it", hand: "f", made: "added, mine\nadded, theirs\n", beside: contents{"f.from-": "added, mine\n"}},
	{name: "mode", mine: contents{"f": "mode\n"}, theirs: contents{"f": "x:mode\n"}, says: "executable on one side only", hand: "f", made: "x:mode\n"},
	{name: "file-folder", mine: contents{"n": "file-folder\n"}, theirs: contents{"n/x": "x\n", "n/y": "y\n"}, says: "a file here, a folder %s", beside: contents{"n.from-": "file-folder\n"}},
	{name: "folder-file", mine: contents{"n/x": "mine\n"}, theirs: contents{"n": "theirs\n"}, says: "a folder here, a file %s", beside: contents{"n.from-/x": "mine\n"}},
	{name: "to-folder", base: contents{"n": twelve("n")}, mine: contents{"n": instead("n", "mine")}, theirs: contents{"n/x": "x\n"}, says: "a file here, a folder %s", beside: contents{"n.from-": instead("n", "mine")}},
	{name: "renamed-twice", base: contents{"f": twelve("rt")}, mine: contents{"x": instead("rt", "mine")}, theirs: contents{"y": instead("rt", "theirs")},
		says: "renamed-twice/f was renamed to renamed-twice/x here, and to renamed-twice/y %s", hand: "y", made: instead("rt", "mine\ntheirs"), beside: contents{"x.from-": instead("rt", "mine")}},
	{name: "one-name", base: contents{"a": twelve("na"), "b": twelve("nb")}, mine: contents{"c": twelve("na"), "b": twelve("nb")}, theirs: contents{"a": twelve("na"), "c": twelve("nb")},
		says: "each side gave this name to another file", hand: "c", made: twelve("na") + twelve("nb"), beside: contents{}},
	{name: "renamed-here", base: contents{"f": twelve("rh")}, mine: contents{"x": instead("rh", "mine")}, theirs: contents{"f": instead("rh", "theirs")},
		says: "renamed here (from renamed-here/f), changed %s", hand: "x", made: instead("rh", "mine\ntheirs"), beside: contents{"x.from-": instead("rh", "mine")}},
	{name: "renamed-deleted", base: contents{"f": twelve("rd"), "g": "g\n"}, mine: contents{"x": twelve("rd"), "g": "g\n"}, theirs: contents{"g": "g\n"}, says: "renamed here (from renamed-deleted/f), deleted %s", hand: "x", made: twelve("rd")},
	{name: "folder-renamed", base: contents{"d/f": twelve("fd"), "d/g": twelve("fg")}, mine: contents{"d/f": instead("fd", "mine"), "d/g": instead("fg", "mine"), "d/new": "new\n"},
		theirs: contents{"e/f": instead("fd", "theirs"), "e/g": twelve("fg")}, merged: contents{"e/g": instead("fg", "mine"), "d/new": "new\n", "d/g": ""},
		says: "changed here, renamed %s (from folder-renamed/d/f)", hand: "e/f", made: instead("fd", "mine\ntheirs"), beside: contents{"d/f.from-": instead("fd", "mine")}},
	{name: "link", base: contents{"f": "link\n"}, mine: contents{"f": "l:mine"}, theirs: contents{"f": "link\ntheirs\n"}, says: "a link here, a file %s", beside: contents{"f.from-": "l:mine"}},
	{name: "submodule", mine: contents{"s": oneInside}, theirs: contents{"s": otherInside}, says: "a repository inside, at another commit on each side"},
}

// history writes a base, and a commit of either side on top of it.
func (m *machine) twoSides(dir string) {
	m.t.Helper()
	var in strings.Builder
	commit := func(branch, from, who string, of func(clashKind) contents) {
		fmt.Fprintf(&in, "commit refs/heads/%s\ncommitter %s <%s@saltmarsh.example> 1740000000 +0000\ndata 5\n%s\n", branch, who, who, (branch + "     ")[:4]+"\n")
		if from != "" {
			fmt.Fprintf(&in, "from refs/heads/%s\ndeleteall\n", from)
		}
		for _, k := range clashKinds {
			for p, s := range of(k) {
				mode := "100644"
				switch {
				case strings.HasPrefix(s, "s:"):
					fmt.Fprintf(&in, "M 160000 %s %s/%s\n", s[2:], k.name, p)
					continue
				case strings.HasPrefix(s, "x:"):
					mode, s = "100755", s[2:]
				case strings.HasPrefix(s, "l:"):
					mode, s = "120000", s[2:]
				}
				fmt.Fprintf(&in, "M %s inline %s/%s\ndata %d\n%s\n", mode, k.name, p, len(s), s)
			}
		}
	}
	commit("base", "", "Tern", func(k clashKind) contents { return k.base })
	commit("theirs", "base", "Knot", func(k clashKind) contents { return k.theirs })
	commit("mine", "base", "Tern", func(k clashKind) contents { return k.mine })
	r := m.command(dir, in.String(), "git", "fast-import", "--quiet", "--force")
	require.Equal(m.t, 0, r.code, r.err)
}

// holds gives what a commit holds below a folder.
func (m *machine) holds(dir, commit string) map[string]contents {
	m.t.Helper()
	all := map[string]contents{}
	for _, line := range strings.Split(strings.TrimSuffix(m.command(dir, "", "git", "ls-tree", "-r", "-z", commit).out, "\x00"), "\x00") {
		about, p, _ := strings.Cut(line, "\t")
		x := strings.Fields(about)
		folder, name, _ := strings.Cut(p, "/")
		if all[folder] == nil {
			all[folder] = contents{}
		}
		switch x[0] {
		case "160000":
			all[folder][name] = "s:" + x[2]
			continue
		case "100755":
			all[folder][name] = "x:"
		case "120000":
			all[folder][name] = "l:"
		}
		all[folder][name] += m.command(dir, "", "git", "cat-file", "blob", x[2]).out
	}
	return all
}

// byHand are what an editor makes of the marked texts: all lines of both sides.
const byHand = `#!/bin/sh
grep -v -e '^<<<<<<< yours$' -e '^=======$' -e '^>>>>>>> theirs, on ' "$1" > "$1.done"
mv "$1.done" "$1"
`

// TestEveryClash plays each kind of clash, each way to decide it, by sync and by a join of
// branches, and looks at what every file holds then.
func TestEveryClash(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	m.twoSides("gauge")
	editor := filepath.Join(m.home, "editor")
	require.NoError(t, os.WriteFile(editor, []byte(byHand), 0o755))
	m.env = append(m.env, "GIT_EDITOR="+editor)
	for _, way := range []string{"mine", "theirs", "both", "by-hand"} {
		for _, by := range []string{"sync", "join"} {
			if by == "join" && (way == "mine" || way == "by-hand") && os.Getenv("UNCINATE_SOAK") == "" {
				continue // what is decided is carried out by the same code
			}
			branch := by + "-" + way
			m.git("gauge", "checkout", "-q", "-f", "-B", branch, "mine")
			there, line := "on theirs", []string{"branch", "join", "theirs"}
			if by == "sync" {
				there, line = "on the host", []string{"sync"}
				m.git("gauge", "push", "-q", "origin", "theirs:refs/heads/"+branch)
			}
			m.refused(3, []string{"both sides clash in 16 files on " + branch + ": 1 commit only here, 1 commit only " + there, "uncinate settle"}, "gauge", "", line...)
			m.decideAll(way, there)
			m.decidedSo(way)
			m.git("gauge", "clean", "-q", "-f", "-d")
		}
	}
}

// decideAll decides all clashes one way, or by one side where that way is none.
func (m *machine) decideAll(way, there string) {
	m.t.Helper()
	var shown settling.Settling
	require.NoError(m.t, json.Unmarshal([]byte(m.ok("gauge", "", "settle", "--json")), &shown))
	says := map[string]settling.Clash{}
	for _, c := range shown.Clashes {
		folder, _, _ := strings.Cut(c.Path, "/")
		says[folder] = c
	}
	for _, k := range clashKinds {
		assert.Equal(m.t, strings.ReplaceAll(k.says, "%s", there), says[k.name].Says)
		assert.Equal(m.t, k.hand != "" || k.name == "binary", slices.Contains(says[k.name].Ways, "by-hand"), k.name)
		assert.Equal(m.t, len(k.beside) > 0, slices.Contains(says[k.name].Ways, "both"), k.name)
	}
	switch way {
	case "both":
		m.refused(2, []string{"submodule/s is a repository inside", "uncinate settle theirs submodule/s"}, "gauge", "", "settle", way)
		assert.Contains(m.t, m.ok("gauge", "", "settle", "theirs", "submodule"), "submodule/s becomes theirs.")
	case "by-hand":
		mine := []string{"settle", "mine"}
		hand := slices.DeleteFunc(slices.Clone(clashKinds), func(k clashKind) bool {
			if k.hand == "" {
				mine = append(mine, k.name)
			}
			return k.hand == ""
		})
		m.ok("gauge", "", mine...)
		for i, k := range hand {
			said := m.ok("gauge", "", "settle", "by-hand", k.name+"/"+k.hand)
			assert.Equal(m.t, i < len(hand)-1, strings.Contains(said, " left: "), said)
		}
		return
	}
	m.ok("gauge", "", "settle", way)
}

// decidedSo looks at what all files hold.
func (m *machine) decidedSo(way string) {
	m.t.Helper()
	assert.Equal(m.t, m.id("gauge", "mine")+" "+m.id("gauge", "theirs"), m.git("gauge", "log", "-1", "--format=%P"), "a merge of both ends")
	got := m.holds("gauge", "HEAD")
	assert.Empty(m.t, m.git("gauge", "status", "--porcelain", "--ignore-submodules=all"))
	for _, k := range clashKinds {
		want := contents{}
		side := k.theirs
		if way == "mine" || way == "by-hand" && k.hand == "" || way == "both" && strings.HasSuffix(k.says, " deleted %s") {
			side = k.mine
		}
		maps.Copy(want, side)
		maps.Copy(want, k.merged)
		maps.DeleteFunc(want, func(_, s string) bool { return s == "" })
		if way == "by-hand" && k.hand != "" {
			for _, side := range []contents{k.base, k.mine, k.theirs} {
				for p := range side {
					if p != "g" && k.merged[p] == "" {
						delete(want, p)
					}
				}
			}
			want[k.hand] = k.made
		}
		assert.Equal(m.t, want, got[k.name], "%s, %s", k.name, way)
		if way == "both" {
			m.besides(k)
		}
	}
}

// besides looks at what was put beside.
func (m *machine) besides(k clashKind) {
	m.t.Helper()
	machine, err := os.Hostname()
	require.NoError(m.t, err)
	for name, want := range k.beside {
		p := filepath.Join(m.home, "gauge", k.name, strings.Replace(name, ".from-", ".from-"+machine, 1))
		got, err := os.ReadFile(p)
		if leads, link := strings.CutPrefix(want, "l:"); link {
			var to string
			to, err = os.Readlink(p)
			got, want = []byte(to), leads
		}
		require.NoError(m.t, err)
		assert.Equal(m.t, want, string(got), name)
	}
}
