package job

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"

	"uncinate/internal/core/description"
	"uncinate/internal/world/git"
)

func TestReadLog(t *testing.T) {
	id := func(c string) string { return strings.Repeat(c, 40) }
	text := "\x01" + id("a") + "\x00" + id("b") + " " + id("c") + "\x00Tern\x00tern@skerry.example\x001700000000\x00Merge\x00HEAD -> refs/heads/main, tag: refs/tags/v1, refs/remotes/origin/HEAD\x00" +
		"\x01" + id("b") + "\x00" + id("d") + "\x00Knot\x00k@skerry.example\x001700000001\x00One\x00\x00\n3\t1\tsrc/a b.c\x00-\t-\tpic.png\x00" +
		"\x01" + id("c") + "\x00" + id("d") + "\x00Knot\x00k@skerry.example\x00x\x00Two\x00\x00" + "\x01cut off\x00"
	all := readLog(text, map[string]string{id("b"): "here", id("c"): "there"}, true)
	var where []string
	for _, c := range all {
		where = append(where, c.Where)
	}
	assert.Equal(t, []string{"both", "here", "there"}, where)
	assert.True(t, all[0].Merges)
	assert.Equal(t, []string{"refs/heads/main", "refs/tags/v1"}, all[0].Names)
	assert.Equal(t, []CommitFile{{"src/a b.c", 3, 1}, {"pic.png", -1, -1}}, all[1].Files)
	for _, c := range readLog(text, nil, false) {
		assert.Equal(t, "here", c.Where, "nothing is known of there")
	}
	assert.Equal(t, map[string][]string{id("a"): {id("b"), id("c")}, id("b"): {id("d")}, id("c"): {id("d")}}, parentsOf(text))
}

// TestMatch holds that names are carried over as git's refspecs do.
func TestMatch(t *testing.T) {
	for _, c := range [][4]string{
		{"refs/heads/*", "refs/remotes/origin/*", "refs/heads/a/b", "refs/remotes/origin/a/b"},
		{"refs/heads/main", "refs/remotes/o/main", "refs/heads/main", "refs/remotes/o/main"},
		{"refs/heads/main", "refs/remotes/o/main", "refs/heads/mainly", ""},
		{"refs/heads/v*-x", "refs/r/*", "refs/heads/v1-x", "refs/r/1"},
		{"refs/heads/v*-x", "refs/r/*", "refs/heads/v-", ""},
		{"refs/heads/*", "refs/remotes/origin/*", "refs/tags/v1", ""},
	} {
		assert.Equal(t, c[3], match(c[0], c[1], c[2]), c[2])
	}
	s := &Sync{folder: &folder{branch: "own"}, hook: &hook{remote: "origin"}}
	assert.Equal(t, "refs/remotes/origin/x", s.track("x"))
	s.folder.settings = []git.Setting{{Key: "remote.origin.fetch", Value: "+refs/heads/main:refs/remotes/origin/main"}, {Key: "remote.origin.fetch", Value: "+refs/notes/*:refs/notes/*"}}
	assert.Equal(t, "refs/remotes/origin/main", s.track("main"))
	assert.Empty(t, s.track("x"), "it is not followed")
	assert.Equal(t, "refs/remotes/origin/own", s.track("own"), "but for the one that is checked out")
}

// TestMeans holds which repositories a word stands for.
func TestMeans(t *testing.T) {
	r := HostedRepository{"tern", "gannet", description.Repository{Owner: "coast/north", Name: "Tide-Almanac", HTTPS: "https://gannet.example/coast/north/Tide-Almanac.git"}}
	for word, want := range map[string]bool{"tide-almanac": true, "coast/north/Tide-Almanac": true, "*Alm*": true, "coast/north/*": true, "coast/north/": true, "coast/": true, "coas/": false, "almanac": false,
		"https://gannet.example/coast/north/Tide-Almanac": true, "https://gannet.example/coast/north/other": false, "[": false, "coast/*": false} {
		assert.Equal(t, want, isMeant(nil, word, r), word)
	}
	assert.Equal(t, []string{"coast", "north"}, eachFolder("coast/north"))
	rows := []Row{{Folder: "/a/x/gauge"}, {Folder: "/a/y/gauge"}, {Folder: "/b/y/gauge"}, {Folder: "/b/buoys"}}
	shortest(rows)
	assert.Equal(t, []string{"x/gauge", "a/y/gauge", "b/y/gauge", "buoys"}, []string{rows[0].Name, rows[1].Name, rows[2].Name, rows[3].Name})
}
