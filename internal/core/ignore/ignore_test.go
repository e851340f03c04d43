package ignore

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// oracle asks git's own matcher which paths a set of ignore files leaves out: the
// files' contents by their path from the top, in a folder where all paths are real.
func oracle(t *testing.T, ignores map[string]string, paths []string) map[string]bool {
	t.Helper()
	dir := t.TempDir()
	run := func(in string, args ...string) string {
		c := exec.Command("git", args...)
		c.Dir, c.Stdin = dir, strings.NewReader(in)
		c.Env = append(os.Environ(), "GIT_CONFIG_GLOBAL="+os.DevNull, "GIT_CONFIG_NOSYSTEM=1", "HOME="+dir, "XDG_CONFIG_HOME="+dir)
		var errs bytes.Buffer
		c.Stderr = &errs
		out, err := c.Output()
		if c.ProcessState == nil || c.ProcessState.ExitCode() > 1 {
			require.NoError(t, err, "git is needed (apt-get install git): %s", errs.String())
		}
		return string(out)
	}
	run("", "init", "-q", "--template=")
	for _, p := range paths {
		full := filepath.Join(dir, p)
		require.NoError(t, os.MkdirAll(filepath.Dir(full), 0o755))
		if strings.HasSuffix(p, "/") {
			require.NoError(t, os.MkdirAll(full, 0o755))
		} else {
			require.NoError(t, os.WriteFile(full, nil, 0o644))
		}
	}
	for p, s := range ignores {
		require.NoError(t, os.MkdirAll(filepath.Dir(filepath.Join(dir, p)), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, p), []byte(s), 0o644))
	}
	left := map[string]bool{}
	bare := strings.ReplaceAll(strings.Join(paths, "\x00")+"\x00", "/\x00", "\x00") // by itself git sees what is a folder
	for p := range strings.SplitSeq(run(bare, "check-ignore", "-z", "--stdin", "--no-index"), "\x00") {
		if p != "" {
			left[p] = true
		}
	}
	return left
}

// ours decides the same with this package.
func ours(ignores map[string]string, order, paths []string) map[string]bool {
	var lists []*List
	for _, p := range order {
		base := strings.TrimSuffix(strings.TrimSuffix(p, ".gitignore"), "/")
		lists = append(lists, Parse(ignores[p], p, base))
	}
	left := map[string]bool{}
	for _, p := range paths {
		name, isFolder := strings.CutSuffix(p, "/")
		if r, _ := Explain(lists, name, isFolder); r != nil && !r.Negated {
			left[name] = true
		}
	}
	return left
}

var tablePaths = []string{"a", "b.o", "b.c", "#x", "!x", "x ", "build/out.o", "build/deep/out.c", "src/build/out.o", "src/keep.o", "src/a.b.c", "doc/a[1].txt",
	"doc/x1.txt", "doc/x-.txt", "doc/x].txt", "deep/er/still/a.log", "deep/a.log", "foo/bar/baz", "foo/baz", "bar", "back\\slash", "star*", "A", "doc/", "tab\t"}

func TestRulesAsGitReadsThem(t *testing.T) {
	t.Parallel()
	for _, rules := range []string{
		"*.o\n!src/keep.o\n",
		"build/\n",
		"/build/\n",
		"build\n!build/out.o\n",
		"/build/*\n!/build/out.o\n",
		"src/*.o",
		"**/a.log",
		"deep/**",
		"deep/**/a.log",
		"**/deep/a.log",
		"foo/**/baz",
		"a/**b",
		"#x\n",
		"\\#x",
		"\\!x",
		"!x",
		"x \n",
		"x\\ \n",
		"x\\  \n",
		"doc/x[0-9].txt",
		"doc/x[!0-9].txt",
		"doc/x[^0-9].txt",
		"doc/x[]].txt",
		"doc/x[]-].txt",
		"doc/a\\[1\\].txt",
		"doc/a[[]1[]].txt",
		"doc/x[[:digit:]].txt",
		"doc/x[[:nope:]].txt",
		"doc/x[",
		"doc/x[\\]].txt",
		"?",
		"*",
		"*\n!*.c",
		"/*\n!/src\n",
		"**\n",
		"/**/\n",
		"*/\n",
		"doc/\r\n",
		"\ufeffa\n",
		"back\\\\slash",
		"star\\*",
		"[A-Z]",
		"[a-",
		"//",
		"/",
		"!",
		"\\",
		"a\\",
		"b.?",
		"s*c",
		"*.b.*",
		"**/*.c",
		"foo/*/baz",
		"foo/**",
		"***/a.log",
		"f**/baz",
		"deep/***/a.log",
		"/a/",
		"src/\n!src/\n",
		"tab\t",
		"doc/x[[:punct:][:digit:]].txt",
		"doc/x[+--].txt",
		"doc/x[a[:digit:]-z].txt",
	} {
		ignores := map[string]string{".gitignore": rules}
		assert.Equal(t, oracle(t, ignores, tablePaths), ours(ignores, []string{".gitignore"}, tablePaths), "%q", rules)
	}
	ignores := map[string]string{".gitignore": "*.o\n/src/build/\n*.log\n", "src/.gitignore": "!keep.o\n/a.b.c\n!build/\n", "deep/.gitignore": "!a.log\n", "deep/er/.gitignore": "still/a.log\n"}
	order := []string{".gitignore", "src/.gitignore", "deep/.gitignore", "deep/er/.gitignore"}
	assert.Equal(t, oracle(t, ignores, tablePaths), ours(ignores, order, tablePaths), "several levels")
}

// TestRandomRules compares with git on patterns drawn from a small alphabet, where
// every special sign is frequent.
func TestRandomRules(t *testing.T) {
	t.Parallel()
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 7))
	draw := func(of string, most int) string {
		var b strings.Builder
		for range 1 + r.IntN(most) {
			b.WriteByte(of[r.IntN(len(of))])
		}
		return b.String()
	}
	for range 60 {
		seen := map[string]bool{}
		var paths []string
		for range 60 {
			p := strings.Trim(draw("aab/ab/", 7), "/")
			for strings.Contains(p, "//") {
				p = strings.ReplaceAll(p, "//", "/")
			}
			clash := p == "" || seen[p]
			for q := range seen {
				clash = clash || strings.HasPrefix(q, p+"/") || strings.HasPrefix(p, q+"/")
			}
			if !clash {
				seen[p] = true
				paths = append(paths, p)
			}
		}
		var rules strings.Builder
		for range 1 + r.IntN(4) {
			rules.WriteString(draw(`aaabb/**?[]!-^\ `, 8) + "\n")
		}
		ignores := map[string]string{".gitignore": rules.String()}
		require.Equal(t, oracle(t, ignores, paths), ours(ignores, []string{".gitignore"}, paths), "seed %d: %q", seed, rules.String())
	}
}

func TestPatternsCannotStall(t *testing.T) {
	// Without a bound these would outlast the test's time by far.
	assert.False(t, Wild(strings.Repeat("*a", 60), strings.Repeat("a", 400)+"b"))
	assert.False(t, Wild(strings.Repeat("**/", 60)+"x", strings.Repeat("a/", 300)+"b"))
}

func TestExplainNamesTheRule(t *testing.T) {
	lists := []*List{Parse("*.log\n# why\nbuild/\n!keep.log\n", ".gitignore", "")}
	r, at := Explain(lists, "build/deep/a.c", false)
	require.NotNil(t, r)
	assert.Equal(t, []any{"build/", 3, "build"}, []any{r.Pattern, r.Line, at})
	r, _ = Explain(lists, "keep.log", false)
	assert.True(t, r.Negated)
	r, _ = Explain(lists, "src/a.c", false)
	assert.Nil(t, r)
}

func FuzzWild(f *testing.F) {
	f.Add("a*[!b-d]**/c\\", "abc/d")
	f.Fuzz(func(t *testing.T, pattern, p string) {
		if len(pattern) < 200 && len(p) < 200 {
			Wild(pattern, p)
			ParseRule(pattern)
		}
	})
}
