package naming

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestAlike(t *testing.T) {
	for _, c := range []struct {
		paths []string
		want  map[string]string
	}{
		{nil, map[string]string{}},
		{[]string{"a", "b", "c/a", "c/b"}, map[string]string{}},
		{[]string{"README.md", "readme.md"}, map[string]string{"README.md": "readme.md", "readme.md": "README.md"}},
		{[]string{"Docs/a", "docs/A", "docs/b"}, map[string]string{"Docs/a": "docs/A", "docs/A": "Docs/a"}},
		{[]string{"x", "X", "deep/x"}, map[string]string{"x": "X", "X": "x"}},
		{[]string{"ä/one", "Ä/ONE"}, map[string]string{"ä/one": "Ä/ONE", "Ä/ONE": "ä/one"}},
		{[]string{"K", "k", "\u212a"}, map[string]string{"K": "k", "k": "K", "\u212a": "K"}}, // the Kelvin sign
		{[]string{"docs/a/b", "Docs"}, map[string]string{"docs/a/b": "Docs", "Docs": "docs/a/b"}},
		{[]string{"same", "same"}, map[string]string{}},
	} {
		assert.Equal(t, c.want, Alike(c.paths), c.paths)
	}
}
