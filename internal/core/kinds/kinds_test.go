package kinds

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/fault"
)

func catalogue(t *testing.T) []Kind {
	t.Helper()
	all, err := Shipped()
	require.NoError(t, err)
	return all
}

func patterns(rules []Rule) []string {
	var out []string
	for _, r := range rules {
		out = append(out, r.Pattern)
	}
	return out
}

func TestSuggest(t *testing.T) {
	all := catalogue(t)
	for name, c := range map[string]struct{ files, want []string }{
		"objects in a build folder":            {[]string{"a.c", "build/a.o", "build/deep/b.o"}, []string{"/build/"}},
		"objects among the sources":            {[]string{"a.c", "build/b.o", "src/a.o"}, []string{"/build/", "*.o"}},
		"objects that nothing makes are work":  {[]string{"a.c", "src/a.o", "testdata/sample.o"}, []string{"/src/a.o"}},
		"models that look like objects":        {[]string{"a.c", "hull.obj"}, nil},
		"classes, one inside another":          {[]string{"Gauge$Level.class", "Gauge.class", "Gauge.java"}, []string{"*.class"}},
		"a build folder that is work":          {[]string{"a.c", "build/a.c", "build/a.o", "build/plan.md"}, []string{"*.o"}},
		"no sources, so objects are not known": {[]string{"a.txt", "models/ship.o"}, nil},
		"folders of several projects":          {[]string{"one/a.c", "one/build/a.o", "two/b.c", "two/build/b.o"}, []string{"/one/build/", "/two/build/"}},
		"a folder with a star":                 {[]string{"a.c", "x*y/build/a.o"}, []string{`/x\*y/build/`}},
		"packages":                             {[]string{"node_modules/x/y.js", "node_modules/z.js", "package.json"}, []string{"node_modules/"}},
		"packages of one part alone":           {[]string{"node_modules/notes.txt", "page/node_modules/z.js", "page/package.json"}, []string{"/page/node_modules/"}},
		"a file rule of one part alone":        {[]string{"a/b/x.tsbuildinfo", "a/package.json", "y.tsbuildinfo"}, []string{"/a/**/*.tsbuildinfo"}},
		"nothing":                              {[]string{"README.md"}, nil},
		"a folder's view":                      {[]string{"README.md", "sub/.DS_Store"}, []string{".DS_Store"}},
		"a folder inside one that is left out": {[]string{"a.c", "node_modules/x/build/a.o", "package.json"}, []string{"node_modules/"}},
	} {
		assert.Equal(t, c.want, patterns(Suggest(all, c.files, nil, Look{}).Rules), name)
	}
	s := Suggest(all, []string{"a/x", "a/y", "b"}, []string{"a"}, Look{})
	assert.Equal(t, []string{"/a/"}, patterns(s.Rules))
	assert.Equal(t, []int{0, 0, -1}, s.Taken)
}

// Project is one of the labelled projects.
type Project struct {
	Name                       string
	Work, Made, Personal, Also []string
}

func projects(t *testing.T) []Project {
	t.Helper()
	data, err := os.ReadFile("testdata/projects.toml")
	require.NoError(t, err)
	var all struct{ Project []Project }
	require.NoError(t, toml.Unmarshal(data, &all))
	return all.Project
}

// TestLabelledProjects sorts invented projects of many kinds: no work is left out, all
// that can be made again is found, and git's own matcher reads the rules the same way.
func TestLabelledProjects(t *testing.T) {
	all := catalogue(t)
	for _, p := range projects(t) {
		files := slices.Concat(p.Work, p.Made, p.Personal, p.Also)
		slices.Sort(files)
		s := Suggest(all, files, nil, Look{})
		dir := t.TempDir()
		require.NoError(t, exec.Command("git", "init", "-q", dir).Run(), "git is needed: apt-get install git")
		require.NoError(t, os.WriteFile(filepath.Join(dir, ".gitignore"), []byte(Merge("", s.Rules)), 0o644))
		for _, f := range files {
			require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, f)), 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(dir, f), nil, 0o644))
		}
		out, err := exec.Command("git", "-C", dir, "ls-files", "-o", "--exclude-standard").Output()
		require.NoError(t, err)
		goes := strings.Split(strings.TrimSpace(string(out)), "\n")
		for i, f := range files {
			n := s.Taken[i]
			assert.Equal(t, n < 0, slices.Contains(goes, f), "%s: %s as git reads %v", p.Name, f, patterns(s.Rules))
			switch {
			case slices.Contains(p.Work, f) || slices.Contains(p.Also, f):
				assert.Equal(t, -1, n, "%s: %s is work", p.Name, f)
			case assert.GreaterOrEqual(t, n, 0, "%s: %s is %v", p.Name, f, s.Rules):
				assert.Equal(t, slices.Contains(p.Personal, f), s.Rules[n].Personal, "%s: %s", p.Name, f)
			}
		}
	}
}

func TestHintsBeginWithTheirKind(t *testing.T) {
	s := Suggest(catalogue(t), []string{"g/Assets/boat.png", "g/Assets/boat.png.meta", "g/ProjectSettings/ProjectVersion.txt", "x.meta"}, nil, Look{})
	i := slices.IndexFunc(s.Kinds, func(f Found) bool { return len(f.Kind.Hints) > 0 })
	require.GreaterOrEqual(t, i, 0)
	assert.Equal(t, []string{"g"}, s.Kinds[i].Roots)
}

func TestLoadSaysWhere(t *testing.T) {
	for contents, want := range map[string]string{
		"[[kind]]\nname = \"x\"\nmarkers = [\"*.x\"]\ncolour = 1\n": "line 4, column 1",
		"[[kind]]\nname = x\n":                        "line 2",
		"[[kind]]\nname = \"x\"\n":                    "needs a name and markers",
		"[[kind]]\nname = \"x\"\nmarkers = [\"[\"]\n": "cannot be used",
		"[[kind]]\nname = \"x\"\nmarkers = [\"*.x\"]\nrule = [{ pattern = \"y\" }]\n":                   "without why",
		"[[kind]]\nname = \"x\"\nmarkers = [\"*.x\"]\nrule = [{ pattern = \"a/**/b\", why = \"w\" }]\n": "cannot be used",
		"[[kind]]\nname = \"x\"\nmarkers = [\"*.x\"]\nhint = [{ file = \"y\" }]\n":                      "hint without",
	} {
		_, err := Load("mine.toml", []byte(contents))
		if assert.Error(t, err, contents) {
			f := fault.Of(err)
			assert.Contains(t, f.Says+strings.Join(f.Details, " "), want)
		}
	}
	mine, err := Load("mine.toml", []byte("[[kind]]\nname = \"tide tables\"\nmarkers = [\"*.tide\"]\nrule = [{ pattern = \"*.tmp\", why = \"made by each run\", from = [\".tide\"] }]\n"))
	require.NoError(t, err)
	assert.Equal(t, []string{"*.tmp"}, patterns(Suggest(mine, []string{"a.tide", "a.tmp"}, nil, Look{}).Rules))
}

func TestMerge(t *testing.T) {
	rules := []Rule{{Pattern: "/build/", Why: "made by the build"}, {Pattern: "*.o", Why: "objects"}}
	first := Merge("# my own\n*.o\n", rules)
	assert.Equal(t, "# my own\n*.o\n\n"+Opening+"\n# made by the build\n/build/\n"+Closing+"\n", first)
	assert.Equal(t, first, Merge(first, rules), "nothing is repeated")
	more := Merge(first, append(rules, Rule{Pattern: "*.obj", Why: "objects"}))
	assert.Equal(t, 1, strings.Count(more, Opening))
	assert.True(t, strings.HasPrefix(more, "# my own\n*.o\n"))
	assert.Contains(t, more, "/build/\n# objects\n*.obj\n"+Closing)
	assert.Equal(t, "x\n", Merge("x\n", nil))
	assert.True(t, strings.HasPrefix(Merge("no line end", rules), "no line end\n\n"+Opening))
	assert.Equal(t, "# w\r\n*.o\r\n\r\n"+Opening+"\r\n# made by the build\r\n/build/\r\n"+Closing+"\r\n", Merge("# w\r\n*.o\r\n", rules), "line ends stay as they are")
	assert.Equal(t, `a\*b\[c]\?\\d\ `, Escape(`a*b[c]?\d `))
}
