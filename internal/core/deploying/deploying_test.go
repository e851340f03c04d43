package deploying

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestMistakes holds that each mistake in a tasks file is found where it stands.
func TestMistakes(t *testing.T) {
	task := "[[task]]\ndo = [\"./make\"]\n"
	for _, c := range []struct{ file, says string }{
		{"branch = main\n", "line 1, column 10"},
		{"branchs = \"main\"\n", `line 1, column 1: the file's top has no key "branchs"; did you mean "branch"?`},
		{"branch = \"a..b\"\n", "line 1, column 1: a..b cannot be a branch's name"},
		{"branch = 1\n", `line 1, column 1: "branch" must be a text in quotes`},
		{"\nlasting = \"levels\"\n", `line 2, column 1: "lasting" is a list, such as ["levels"]`},
		{"lasting = [\"../levels\"]\n", "line 1, column 1: ../levels leads out of the folder"},
		{"lasting = [\"a/.git/hooks\"]\n", "leads out of the folder, or cannot be in it"},
		{"lasting = [\"a/\", \"a/b\"]\n", "line 1, column 1: a/ and a/b are the same, or one is in the other"},
		{"lasting = [\"uncinate-deploy.toml\"]\n", "the tasks file itself cannot be lasting"},
		{"[task]\ndo = [\"x\"]\n", "each task begins with a line [[task]], in two brackets"},
		{"[[task]]\nfolder = \"site\"\n", `line 1, column 3: this task lacks the key "do"`},
		{"[[task]]\ndo = \"./make page\"\n", `line 2, column 1: "do" is a list, such as ["./make", "page"]`},
		{"[[task]]\ndo = []\n", `line 2, column 1: "do" names a program first`},
		{"[[task]]\ndo = [1]\n", `line 2, column 1: "do" is a list of texts in quotes`},
		{task + "folder = \"/srv\"\n", "line 3, column 1: /srv leads out of the repository"},
		{task + "runs = [\"../x\"]\n", "line 3, column 1: ../x leads out of the repository"},
		{task + "within = \"soon\"\n", "line 3, column 1: soon is not a time such as 30s, 5m or 2h"},
		{task + "within = \"25h\"\n", "line 3, column 1: 25h is not a time"},
		{task + "if-it-fails = \"stopp\"\n", `line 3, column 1: "if-it-fails" is "stop" or "go on"; did you mean "stop"?`},
		{task + "after-switch = \"yes\"\n", `line 3, column 1: "after-switch" is true or false, without quotes`},
		{task + "after = true\n", `line 3, column 1: a task has no key "after"`},
		{"[[task]]\ndo = [\"./a\"]\nafter-switch = true\n" + task, "line 5, column 1: this task runs before those with after-switch"},
		{strings.Repeat(task, 101), "more than 100 tasks"},
		{strings.Repeat("# x\n", 20_000), "larger than"},
	} {
		_, mistakes := Load([]byte(c.file))
		require.NotEmpty(t, mistakes, c.file)
		assert.Contains(t, fmt.Sprint(mistakes), c.says)
	}
}

// TestMissing holds that what a tasks file names is compared with the repository.
func TestMissing(t *testing.T) {
	tree := Tree{File: {Mode: "100644", ID: "1"}, "make": {Mode: Executable, ID: "2"}, "page.sh": {Mode: "100644", ID: "3"}, "site/index.html": {Mode: "100644", ID: "4"}, "levels/a": {Mode: "100644", ID: "5"}}
	file := "lasting = [\"levels/\"]\n[[task]]\ndo = [\"./mak\"]\n[[task]]\ndo = [\"./page.sh\"]\n[[task]]\ndo = [\"true\"]\nfolder = \"sites\"\n[[task]]\ndo = [\"true\"]\nruns = [\"lib/\"]\n[[task]]\ndo = [\"../out\"]\n"
	tasks, mistakes := Load([]byte(file))
	require.Empty(t, mistakes)
	said := fmt.Sprint(tasks.Missing([]byte(file), tree))
	for _, w := range []string{"line 1, column 1: levels/ is in the repository", "line 3, column 1: there is no mak in the repository; did you mean \"make\"?", "line 5, column 1: page.sh is not executable", "line 8, column 1: there is no folder sites",
		"line 11, column 1: there is no lib/ in the repository", "line 13, column 1: ../out leads out"} {
		assert.Contains(t, said, w)
	}
}

// TestCovered holds that an approval covers what a task names, what that leads to, and changes with its contents alone.
func TestCovered(t *testing.T) {
	tasks, mistakes := Load([]byte("[[task]]\ndo = [\"python3\", \"build.py\", \"--out\", \"public\"]\nfolder = \"site\"\nruns = [\"lib/\"]\n[[task]]\ndo = [\"bin/go\"]\n[[task]]\ndo = [\"make\"]\n[[task]]\ndo = [\"sh\", \"-c\", \"./other\"]\n"))
	require.Empty(t, mistakes)
	tree := Tree{File: {"100644", "1"}, "site/build.py": {"100644", "2"}, "lib/a": {"100644", "3"}, "lib/sub/b": {"100644", "4"}, "bin": {Link, "5"}, "tools/go": {Executable, "6"}, "other": {Executable, "7"}, "site/index.html": {"100644", "8"}, "build.py": {"100644", "9"}}
	read := func(to string) func(string) (string, error) { return func(string) (string, error) { return to, nil } }
	got, err := tasks.Covered(tree, read("tools"))
	require.NoError(t, err)
	for _, p := range []string{File, "other", "site/build.py", "build.py", "lib/a", "lib/sub/b", "bin", "tools/go"} {
		assert.Contains(t, got, p)
	}
	assert.Len(t, got, 8)
	was := tasks.Digest(got, "c1")
	assert.Equal(t, was, tasks.Digest(got, "c2"), "another commit with the same contents is approved")
	got["lib/a"] = Entry{"100644", "33"}
	assert.NotEqual(t, was, tasks.Digest(got, "c1"))
	tasks.Tasks[0].Any = true
	assert.NotEqual(t, tasks.Digest(got, "c1"), tasks.Digest(got, "c2"), "each commit waits where a task says so")
	tasks.Tasks[0].Any = false
	for _, out := range []string{"/etc", "../out", "a/../../out"} {
		_, err = tasks.Covered(tree, read(out))
		assert.ErrorContains(t, err, "leads out of the repository")
	}
	said := strings.Join(tasks.Warnings(tree, Tree{"tools/go": tree["tools/go"]}), "\n")
	for _, w := range []string{"make does what its makefile says", "is a shell's line", "1 executable file of the repository that no task names"} {
		assert.Contains(t, said, w)
	}
}
