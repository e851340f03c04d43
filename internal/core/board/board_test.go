package board

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestWord(t *testing.T) {
	before := -1
	for _, c := range []struct {
		facts      Facts
		word, says string
	}{
		{Facts{Lost: true, Ahead: 1}, "missing", "its folder is no longer there"},
		{Facts{Broken: "the index is damaged"}, "broken", "the index is damaged"},
		{Facts{Unfinished: "a merge", Changed: map[string]int{"clashing": 1}}, "unfinished", "a merge is not finished; 1 clashing file"},
		{Facts{Refused: "there is no repository", NowAt: "tern/tables"}, "elsewhere", "its repository is now called tern/tables"},
		{Facts{Refused: "there is no repository", Ahead: 1}, "no answer", "1 commit not sent; there is no repository"},
		{Facts{Ahead: 2, Behind: 1, Changed: map[string]int{"changed": 3, "new": 1}}, "both", "2 commits not sent; 1 commit not received; 3 changed files, 1 new"},
		{Facts{Unsent: true, Branches: []string{"a", "b"}, Stashes: 1}, "unsent", "never sent; branches only here: a, b; 1 change stashed"},
		{Facts{Changed: map[string]int{"new": 1}}, "changed", "1 new file"},
		{Facts{Moved: true}, "behind", "new commits on the host"},
		{Facts{Empty: true, Unsent: true}, "empty", "no commit yet"},
		{Facts{}, "in step", ""},
	} {
		word, says, rank := c.facts.Word()
		assert.Equal(t, [2]string{c.word, c.says}, [2]string{word, says})
		assert.Greater(t, rank, before)
		before = rank
	}
	for age, want := range map[time.Duration]string{time.Second: "just now", 5 * time.Minute: "5 min", 30 * time.Hour: "30 h", 72 * time.Hour: "3 days"} {
		assert.Equal(t, want, Age(age))
	}
}
