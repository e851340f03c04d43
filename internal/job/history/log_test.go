package history

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"golang.org/x/mod/semver"
)

func TestReadLog(t *testing.T) {
	id := func(c string) string { return strings.Repeat(c, 40) }
	text := "\x01" + id("a") + "\x00" + id("b") + " " + id("c") + "\x00Tern\x00tern@skerry.example\x001700000000\x00Merge\x00HEAD -> refs/heads/main, tag: refs/tags/v1, refs/remotes/origin/HEAD\x00" +
		"\x01" + id("b") + "\x00" + id("d") + "\x00Knot\x00k@skerry.example\x001700000001\x00One\x00\x00\n3\t1\tsrc/a b.c\x00-\t-\tpic.png\x00" +
		"\x01" + id("c") + "\x00" + id("d") + "\x00Knot\x00k@skerry.example\x00x\x00Two\x00\x00" + "\x01cut off\x00"
	all := readLog(text, map[string]string{id("b"): "here", id("c"): "host"}, true)
	var where []string
	for _, c := range all {
		where = append(where, c.Where)
	}
	assert.Equal(t, []string{"both", "here", "host"}, where)
	assert.True(t, all[0].Merges)
	assert.Equal(t, []string{"refs/heads/main", "refs/tags/v1"}, all[0].Names)
	assert.Equal(t, []CommitFile{{"src/a b.c", 3, 1}, {"pic.png", -1, -1}}, all[1].Files)
	for _, c := range readLog(text, nil, false) {
		assert.Equal(t, "here", c.Where, "nothing is known of there")
	}
	assert.Equal(t, map[string][]string{id("a"): {id("b"), id("c")}, id("b"): {id("d")}, id("c"): {id("d")}}, parentsOf(text))
}

// TestLatest finds the highest version among the tags, the same on each run.
func TestLatest(t *testing.T) {
	refs := map[string]string{"refs/tags/v1.9.0": "a", "refs/tags/v1.10.0": "b", "refs/tags/other": "c", "refs/heads/v9.0.0": "d", "refs/tags/v1.10.0-rc1": "e"}
	for range 20 {
		assert.Equal(t, "v1.10.0", latest(refs))
	}
	assert.Empty(t, latest(map[string]string{"refs/tags/other": "c"}))
}

func TestVersion(t *testing.T) {
	for _, bad := range []string{"", "1", "1.2", "1.2.3.4", "01.2.3", "1.2.3-", "1.2.3-01", "1.2.3+", "1.2.x", "vv1.2.3", "1.2.3-a..b", "1.2.3 ", "-1.2.3"} {
		_, ok := version(bad)
		assert.False(t, ok, bad)
	}
	// The order is the one of item 11's example.
	order := []string{"0.9.10", "1.0.0-alpha", "1.0.0-alpha.1", "1.0.0-alpha.beta", "1.0.0-beta", "1.0.0-beta.2", "1.0.0-beta.11", "1.0.0-rc.1", "v1.0.0", "1.0.1+build.01", "1.10.0", "2.0.0-0", "2.0.0"}
	for i := range order {
		for k := range order {
			a, ok := version(order[i])
			assert.True(t, ok, order[i])
			b, _ := version(order[k])
			c := semver.Compare(a, b)
			assert.Equal(t, [2]bool{i < k, i == k}, [2]bool{c < 0, c == 0}, "%s %s", order[i], order[k])
		}
	}
}
