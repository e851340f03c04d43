package clashing

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// of makes a tree: "path" holds contents that are called as is said, ordinary ones.
func of(pairs ...string) Tree {
	t := Tree{}
	for i := 0; i < len(pairs); i += 2 {
		mode, id := "100644", pairs[i+1]
		if kind, rest, found := strings.Cut(id, ":"); found {
			mode, id = map[string]string{"x": "100755", "l": link, "s": submodule}[kind], rest
		}
		t[pairs[i]] = Entry{Mode: mode, ID: id, Path: pairs[i]}
	}
	return t
}

// paths are those of entries, each with what it holds.
func paths(all []Entry) string {
	var out []string
	for _, e := range all {
		out = append(out, e.Path+"="+e.ID)
	}
	return strings.Join(out, " ")
}

// TestKinds holds what sort of clash each is, and what comes of each decision.
func TestKinds(t *testing.T) {
	for _, c := range []struct {
		name                       string
		met                        Met
		kind                       Kind
		at                         string
		mine, theirs, both, beside string
		ways                       string
	}{
		{"changed", Met{Base: of("f", "1"), Mine: of("f", "2"), Theirs: of("f", "3"), Merged: of("f", "m"), Told: [][]string{{"f"}}}, Changed, "f", "f=2", "f=3", "f=3", "f=2", "mine theirs both by-hand"},
		{"deleted here", Met{Base: of("f", "1"), Mine: of(), Theirs: of("f", "3"), Merged: of("f", "3"), Told: [][]string{{"f"}}}, DeletedHere, "f", "", "f=3", "f=3", "", "mine theirs by-hand"},
		{"deleted there", Met{Base: of("f", "1"), Mine: of("f", "2"), Theirs: of(), Merged: of("f", "2"), Told: [][]string{{"f"}}}, DeletedThere, "f", "f=2", "", "f=2", "", "mine theirs by-hand"},
		{"folder", Met{Base: of(), Mine: of("n", "1"), Theirs: of("n/x", "2", "n/y", "3", "m", "4"), Merged: of("n~me", "1", "n/x", "2", "n/y", "3", "m", "4"), Told: [][]string{{"n~me"}, {"n~me", "n"}}},
			Folder, "n", "n=1", "n/x=2 n/y=3", "n/x=2 n/y=3", "n=1", "mine theirs both"},
		{"renamed twice", Met{Base: of("f", "1"), Mine: of("x", "1"), Theirs: of("y", "1"), Merged: of("x", "1", "y", "1"), Told: [][]string{{"f", "x", "y"}}, Renames: [][2]string{{"f", "x"}, {"f", "y"}}},
			RenamedTwice, "y", "x=1", "y=1", "y=1", "", "mine theirs by-hand"},
		{"one name", Met{Base: of("a", "1", "b", "2"), Mine: of("b", "2", "c", "1"), Theirs: of("a", "1", "c", "2"), Merged: of("c", "m"), Told: [][]string{{"c"}}, Renames: [][2]string{{"a", "c"}, {"b", "c"}}},
			OneName, "c", "b=2 c=1", "a=1 c=2", "a=1 c=2", "", "mine theirs by-hand"},
		{"a link", Met{Base: of("f", "1"), Mine: of("f", "l:2"), Theirs: of("f", "3"), Merged: of("f", "l:2", "f~them", "3"), Told: [][]string{{"f"}, {"f~them"}, {"f", "f~them"}}}, Type, "f", "f=2", "f=3", "f=3", "f=2", "mine theirs both"},
		{"mode", Met{Base: of(), Mine: of("f", "1"), Theirs: of("f", "x:1"), Merged: of("f", "1"), Told: [][]string{{"f"}}}, Mode, "f", "f=1", "f=1", "f=1", "", "mine theirs by-hand"},
		{"inside", Met{Base: of(), Mine: of("s", "s:1"), Theirs: of("s", "s:2"), Merged: of("s", "s:1"), Told: [][]string{{"s"}}}, SubmoduleMove, "s", "s=1", "s=2", "", "", "mine theirs"},
		{"case", Met{Base: of("a", "1"), Mine: of("a", "1", "Plan", "2"), Theirs: of("a", "1", "plan", "3"), Merged: of("a", "1", "Plan", "2", "plan", "3"), Folds: true}, Case, "plan", "Plan=2", "plan=3", "plan=3", "Plan=2", "mine theirs both"},
	} {
		all, err := Find(c.met)
		require.NoError(t, err, c.name)
		require.Len(t, all, 1, c.name)
		x := all[0]
		assert.Equal(t, []any{c.kind, c.at, c.ways}, []any{x.Kind, x.At, strings.Join(x.Ways(), " ")}, c.name)
		for way, want := range map[string]string{"mine": c.mine, "theirs": c.theirs, "both": c.both} {
			put, beside, err := x.Outcome(Decision{Way: way})
			if way == "both" && c.kind == SubmoduleMove {
				assert.Error(t, err)
				continue
			}
			require.NoError(t, err, c.name)
			assert.Equal(t, want, paths(put), "%s, %s", c.name, way)
			if way == "both" {
				assert.Equal(t, c.beside, paths(beside), c.name)
			} else {
				assert.Empty(t, beside, c.name)
			}
		}
	}
	_, err := Find(Met{Base: of(), Mine: of(), Theirs: of(), Merged: of(), Told: [][]string{{"nowhere"}}})
	assert.Error(t, err)
	_, _, err = Clash{}.Outcome(Decision{Way: "ours"})
	assert.Error(t, err)
}

// TestKey holds that a decision is about one clash: any other path, mode or contents is another.
func TestKey(t *testing.T) {
	key := func(m Met) string {
		m.Told, m.Merged = [][]string{{"f"}}, of("f", "m")
		all, err := Find(m)
		require.NoError(t, err)
		return all[0].Key()
	}
	seen := map[string]bool{}
	for _, m := range []Met{
		{Base: of("f", "1"), Mine: of("f", "2"), Theirs: of("f", "3")}, {Base: of("f", "0"), Mine: of("f", "2"), Theirs: of("f", "3")}, {Base: of("f", "1"), Mine: of("f", "3"), Theirs: of("f", "2")},
		{Base: of("f", "1"), Mine: of("f", "x:2"), Theirs: of("f", "3")}, {Base: of("f", "1"), Mine: of("f", "2"), Theirs: of("f", "4")}, {Base: of(), Mine: of("f", "2"), Theirs: of("f", "3")},
	} {
		assert.False(t, seen[key(m)])
		seen[key(m)] = true
		assert.Equal(t, key(m), key(m))
	}
}

// someTree draws a tree in which nothing is both a file and a folder.
func someTree(r *rand.Rand, from Tree) Tree {
	t := maps.Clone(from)
	if t == nil {
		t = Tree{}
	}
	all := []string{"a", "b", "a/x", "a/y", "b/x", "b/x/y", "c", "A", "c/z"}
	for range 5 {
		p := all[r.IntN(len(all))]
		switch r.IntN(3) {
		case 0:
			delete(t, p)
		default:
			for other := range t {
				if strings.HasPrefix(other, p+"/") || strings.HasPrefix(p, other+"/") {
					delete(t, other)
				}
			}
			t[p] = Entry{Mode: "100644", ID: fmt.Sprint(r.IntN(4)), Path: p}
		}
	}
	return t
}

// naive merges as git does, path by path, and tells of clashes.
func naive(m *Met) {
	m.Merged = Tree{}
	for _, t := range []Tree{m.Base, m.Mine, m.Theirs} {
		for p := range t {
			b, o, x := m.Base[p], m.Mine[p], m.Theirs[p]
			switch {
			case o == x, x == b:
				m.Merged[p] = o
			case o == b:
				m.Merged[p] = x
			default:
				m.Merged[p] = Entry{Mode: "100644", ID: "marked", Path: p}
				m.Told = append(m.Told, []string{p})
			}
			if m.Merged[p].ID == "" {
				delete(m.Merged, p)
			}
		}
	}
	for _, p := range slices.Sorted(maps.Keys(m.Merged)) {
		for _, q := range slices.Sorted(maps.Keys(m.Merged)) {
			if e, is := m.Merged[p]; is && strings.HasPrefix(q, p+"/") {
				delete(m.Merged, p)
				m.Merged[p+"~side"] = e
				m.Told = append(m.Told, []string{p + "~side", p})
			}
		}
	}
}

// TestDecisionsFit holds, for drawn trees and drawn decisions, that what comes of it is a tree, holds
// only what a side holds, has no name that git made up, and that what is ours alone is in it or beside.
func TestDecisionsFit(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 20_000 {
		m := Met{Base: someTree(r, nil)}
		m.Mine, m.Theirs = someTree(r, m.Base), someTree(r, m.Base)
		naive(&m)
		all, err := Find(m)
		require.NoError(t, err)
		result, seen := maps.Clone(m.Merged), map[string]bool{}
		var put []Entry
		for _, c := range all {
			stays, beside, err := c.Outcome(Decision{Way: []string{"mine", "theirs", "both"}[r.IntN(3)]})
			require.NoError(t, err)
			for _, e := range beside {
				assert.Equal(t, e, m.Mine[e.Path])
			}
			for _, p := range c.Gone() {
				require.False(t, seen[p], "%s is in two clashes", p)
				seen[p] = true
				delete(result, p)
			}
			put = append(put, stays...)
		}
		for _, e := range put {
			result[e.Path] = e
		}
		for p, e := range result {
			require.True(t, e == m.Mine[p] || e == m.Theirs[p], "%v: %s is %v", m, p, e)
			for q := range result {
				require.False(t, strings.HasPrefix(q, p+"/"), "%v: %s and %s", m, p, q)
			}
		}
	}
}

// TestBesideName holds that what is put beside is never below a file, nor on one.
func TestBesideName(t *testing.T) {
	taken := func(names ...string) func(string) bool {
		return func(p string) bool { return slices.Contains(names, p) }
	}
	assert.Equal(t, "mooring/plan.from-launch.dwg", BesideName("mooring/plan.dwg", "launch", taken(), taken()))
	assert.Equal(t, "mooring/plan.from-launch-2.dwg", BesideName("mooring/plan.dwg", "launch", taken(), taken("mooring/plan.from-launch.dwg")))
	assert.Equal(t, "n.from-launch/x/y", BesideName("n/x/y", "launch", taken("n"), taken()))
	assert.Equal(t, "n.from-launch-2/x", BesideName("n/x", "launch", taken("n", "n.from-launch"), taken()))
	assert.Equal(t, "n.from-launch-2/x", BesideName("n/x", "launch", taken("n"), taken("n.from-launch/x")))
}
