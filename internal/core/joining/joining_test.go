package joining

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func e(path, id string) Entry { return Entry{"100644", id, path} }

func TestUnion(t *testing.T) {
	u := Union([]Entry{e("README.md", "1"), e("a", "2"), e("lib/x", "3"), e("same", "4"), {"100755", "5", "tool"}},
		[]Entry{e("LICENCE", "6"), e("README.md", "7"), e("a/b", "8"), e("lib", "9"), e("same", "4"), e("sub/y", "0"), e("tool", "5")})
	assert.Equal(t, []Entry{e("LICENCE", "6"), e("sub/y", "0")}, u.Added)
	assert.Equal(t, 1, u.Same)
	assert.Equal(t, []Clash{{"README.md", e("README.md", "1"), e("README.md", "7")}, {"tool", Entry{"100755", "5", "tool"}, e("tool", "5")}}, u.Clashes, "also where only the mode differs")
	assert.Equal(t, []string{"a/b", "lib"}, u.Blocked)
	assert.Equal(t, Unioned{Added: []Entry{e("x", "1")}}, Union(nil, []Entry{e("x", "1")}))
}

func TestRules(t *testing.T) {
	mine := "# mine\n*.o\n/build/ \n"
	assert.Equal(t, mine, Rules(mine, "*.o\n\n# same\n/build/\n", "gannet"))
	assert.Equal(t, mine+"\n# these rules came from gannet\n# logs\n*.log\n!keep.log\n", Rules(mine, "# title\n\n# objects\n*.o\n# logs\n*.log\r\n!keep.log\n", "gannet"))
	assert.Equal(t, "# these rules came from gannet\n*.log\n", Rules("", "*.log\n*.log", "gannet"))
	assert.Equal(t, "a\r\nb\r\n\r\n# these rules came from gannet\r\nc\r\n", Rules("a\r\nb\r\n", "c\n", "gannet"))
	assert.True(t, strings.HasPrefix(Rules("no end", "x", "gannet"), "no end\n\n#"))
}

func TestBeside(t *testing.T) {
	free := func(string) bool { return false }
	assert.Equal(t, "plans/plan.from-launch.dwg", Beside("plans/plan.dwg", "launch", free))
	assert.Equal(t, ".env.from-pier", Beside(".env", "pier", free))
	assert.Equal(t, "a.from-x-y-2.tar", Beside("a.tar", "x/y", func(n string) bool { return !strings.Contains(n, "-2") }))
	assert.True(t, Valid("both"))
	assert.False(t, Valid("ours"))
}
