package kinds

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func patterns(rules []Rule) []string {
	var out []string
	for _, r := range rules {
		out = append(out, r.Pattern)
	}
	return out
}

func TestSuggest(t *testing.T) {
	catalogue, err := Catalogue()
	require.NoError(t, err)
	for name, c := range map[string]struct {
		files []string
		want  []string
	}{
		"objects in a build folder":            {[]string{"a.c", "build/a.o", "build/deep/b.o"}, []string{"/build/"}},
		"objects among the sources":            {[]string{"a.c", "src/a.o", "build/b.o"}, []string{"/build/", "*.o"}},
		"objects that nothing makes are work":  {[]string{"a.c", "src/a.o", "testdata/sample.o"}, nil},
		"models that look like objects":        {[]string{"a.c", "hull.obj"}, nil},
		"classes, one inside another":          {[]string{"Gauge.java", "Gauge.class", "Gauge$Level.class"}, []string{"*.class"}},
		"a build folder that is work":          {[]string{"a.c", "build/plan.md", "build/a.c", "build/a.o"}, []string{"*.o"}},
		"no sources, so objects are not known": {[]string{"a.txt", "models/ship.o"}, nil},
		"folders of several projects":          {[]string{"one/a.c", "one/build/a.o", "two/b.c", "two/build/b.o"}, []string{"/one/build/", "/two/build/"}},
		"a folder with a star":                 {[]string{"a.c", "x*y/build/a.o"}, []string{`/x\*y/build/`}},
		"packages":                             {[]string{"package.json", "node_modules/x/y.js", "node_modules/z.js"}, []string{"/node_modules/"}},
		"nothing":                              {[]string{"README.md"}, nil},
		"a folder's view":                      {[]string{"README.md", "sub/.DS_Store"}, []string{".DS_Store"}},
	} {
		assert.Equal(t, c.want, patterns(Suggest(catalogue, c.files)), name)
	}
}

// TestRulesAsGitReadsThem asks git's own matcher what the suggested rules hit.
func TestRulesAsGitReadsThem(t *testing.T) {
	dir := t.TempDir()
	catalogue, err := Catalogue()
	require.NoError(t, err)
	files := []string{"a.c", "src/a.o", "build/x.o", `odd*[name]/build/y.o`, "b/build/notes.txt"}
	rules := Suggest(catalogue, files)
	require.NoError(t, exec.Command("git", "init", "-q", dir).Run())
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".gitignore"), []byte(Merge("", rules)), 0o644))
	hit := func(p string) bool {
		return exec.Command("git", "-C", dir, "check-ignore", "-q", "--no-index", "--", p).Run() == nil
	}
	for _, p := range files {
		want := strings.HasSuffix(p, ".o")
		assert.Equal(t, want, hit(p), p)
	}
	assert.False(t, hit("oddZname/build/z.txt"), "the star stands for itself")
}

func TestMerge(t *testing.T) {
	rules := []Rule{{Pattern: "/build/", Why: "made by the build"}, {Pattern: "*.o", Why: "objects"}}
	first := Merge("# my own\n*.o\r\n", rules)
	assert.Equal(t, "# my own\n*.o\r\n\n"+Opening+"\n# made by the build\n/build/\n"+Closing+"\n", first)
	assert.Equal(t, first, Merge(first, rules), "nothing is repeated")
	more := Merge(first, append(rules, Rule{Pattern: "*.obj", Why: "objects"}))
	assert.Equal(t, 1, strings.Count(more, Opening))
	assert.True(t, strings.HasPrefix(more, "# my own\n*.o\r\n"))
	assert.Contains(t, more, "/build/\n# objects\n*.obj\n"+Closing)
	assert.Equal(t, "x\n", Merge("x\n", nil))
	assert.True(t, strings.HasPrefix(Merge("no line end", rules), "no line end\n\n"+Opening))
	for _, p := range []string{"plain", `a*b[c]?\d`} {
		assert.Equal(t, p, Unescape(escape(p)), fmt.Sprint(p))
	}
}
