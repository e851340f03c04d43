package e2e

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// used is every line of the stories and of the tests of the whole program, with what is passed word by word as one text; near is a
// line with those around it, since a call goes over several.
type used struct{ near []string }

func usedLines(t *testing.T) used {
	t.Helper()
	var u used
	parted := regexp.MustCompile(`", *"`)
	var paths []string
	for _, glob := range []string{"*_test.go", "stories/*.story", "../scripts/screenshots", "../internal/screen/rehearse/*.go", "../Makefile"} {
		found, err := filepath.Glob(glob)
		require.NoError(t, err)
		require.NotEmpty(t, found, glob)
		paths = append(paths, found...)
	}
	for _, path := range paths {
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		lines := strings.Split(parted.ReplaceAllString(string(data), " "), "\n")
		for i := range lines {
			u.near = append(u.near, lines[i]+"\n"+strings.Join(lines[max(0, i-3):min(len(lines), i+4)], "\n"))
		}
	}
	return u
}

// TestAllIsUsed lists commands, options and exit codes that no story and no test uses; there is none.
func TestAllIsUsed(t *testing.T) {
	u := usedLines(t)
	m := newMachine(t)
	command, title := "", regexp.MustCompile("^#{2,3} `?([a-z -]+)`?$")
	option, code := regexp.MustCompile(`^\| .--([a-z-]+)`), regexp.MustCompile(`^\| ([0-9]+) \|`)
	everywhere := []string{"json", "quiet", "verbose", "yes", "preview", "folder", "account"}
	var left []string
	var at []int
	seen := 0
	for line := range strings.Lines(m.ok("", "", "help", "--reference")) {
		line = strings.TrimSpace(line)
		if x := title.FindStringSubmatch(line); x != nil {
			command, at = x[1], nil
			word := regexp.MustCompile("(^|[ \"`&;|])" + regexp.QuoteMeta(command) + "($|[ \"`;&|])")
			for i, near := range u.near {
				if own, _, _ := strings.Cut(near, "\n"); word.MatchString(own) {
					at = append(at, i)
				}
			}
			if seen++; len(at) == 0 {
				left = append(left, command)
			}
		}
		if x := option.FindStringSubmatch(line); x != nil && len(at) > 0 && !slices.Contains(everywhere, x[1]) {
			word := regexp.MustCompile(`--` + x[1] + `([^a-z-]|$)`)
			if !slices.ContainsFunc(at, func(i int) bool { return word.MatchString(u.near[i]) }) {
				left = append(left, command+" --"+x[1])
			}
		}
		if x := code.FindStringSubmatch(line); x != nil && x[1] != "0" {
			word := regexp.MustCompile(`(refused\(` + x[1] + `\b|Equal\(t, ` + x[1] + `,|exit ` + x[1] + `\b|\.code == ` + x[1] + `\b|Equal\(m\.t, ` + x[1] + `,)`)
			if !slices.ContainsFunc(u.near, word.MatchString) {
				left = append(left, "exit code "+x[1])
			}
		}
	}
	assert.Greater(t, seen, 100)
	assert.Empty(t, left, "used by no story and no test")
}

// TestListsAreShortened shows so many rows of each list as are asked for.
func TestListsAreShortened(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	for _, n := range []string{"a", "b", "c"} {
		m.write("gauge", map[string]string{n + ".txt": n})
		m.ok("gauge", "", "save", "--message", "Add "+n)
		m.write("gauge", map[string]string{n + ".txt": n + n})
		m.ok("gauge", "", "undo", "changes", "--yes")
		m.ok("gauge", "", "branch", "make", "branch-"+n, "--publish")
		m.ok("gauge", "", "tag", "make", n, "--any-name")
		m.ok("gauge", "", "claim", "create", n+".txt")
		m.project("gauge-" + n)
		m.ok("gauge-"+n, "", "attach", "--yes")
		m.commits("offered-"+n, "Offer "+n, map[string]string{"o" + n: n})
		m.ok("gauge", "", "offer", "create", "--yes")
		m.git("gauge", "checkout", "-q", "main")
		m.ok("gauge", "", "access", "grant", map[string]string{"a": "knot", "b": "dunlin", "c": "tern-own"}[n], "--yes")
	}
	for _, list := range [][]string{{"rescue", "list", "--most", "1"}, {"branch", "list", "--most", "1"}, {"tag", "list", "--most", "1"}, {"claim", "list", "--most", "1"},
		{"project", "list", "--most", "1"}, {"repository", "list", "--most", "1"}, {"offer", "list", "--most", "1"}, {"access", "list", "--most", "1"}} {
		var rows any
		all := m.ok("gauge", "", append(slices.Clone(list[:2]), "--most", "100")...)
		short := m.ok("gauge", "", list...)
		assert.NotContains(t, all, "more. To see all:", list)
		assert.Regexp(t, `([0-9] more\. To see all:\n +|There are more: )uncinate .*--most [0-9]`, short, list)
		require.NoError(t, json.Unmarshal([]byte(m.ok("gauge", "", append(list, "--json")...)), &rows), list)
	}
	assert.Contains(t, m.ok("gauge", "", "claim", "list", "--full"), "a.txt")
	knot := signedInAs(t, h, "knot")
	assert.Contains(t, knot.ok("", "", "invitation", "list", "--most", "1"), "tern/gauge")
	m.refused(5, []string{"has no repository tern/no-such"}, "gauge", "", "offer", "list", "--to-me", "--most", "0", "--repository", "tern/no-such")
}

// TestRareOptions uses what nothing else does.
func TestRareOptions(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.write("gauge", map[string]string{"large.dwg": strings.Repeat("d", 2000)})
	assert.Contains(t, m.ok("gauge", "", "survey", "--except", "*.dwg"), "not chosen")
	m.ok("", "", "clone", "gauge", "copy")
	for way, parents := range map[string]int{"replay": 1, "merge": 2} {
		for _, in := range []string{"copy", "gauge"} {
			m.write(in, map[string]string{way + ".txt": in + "\n"})
			m.ok(in, "", "save", "--message", "In "+in, "--only", way+".txt")
		}
		m.ok("copy", "", "sync")
		require.Equal(t, 3, m.run("gauge", "", "sync").code)
		m.ok("gauge", "", "settle", "theirs", "--by", way, way+".txt")
		m.ok("gauge", "", "sync")
		assert.Len(t, strings.Fields(m.git("gauge", "log", "-1", "--format=%P")), parents, way)
		m.ok("copy", "", "sync")
	}
	m.ok("gauge", "", "branch", "make", "side", "--switch")
	m.write("gauge", map[string]string{"clash.txt": "side\n"})
	m.ok("gauge", "", "save", "--message", "Side", "--only", "clash.txt")
	m.ok("gauge", "", "branch", "switch", "main")
	m.write("gauge", map[string]string{"clash.txt": "main\n"})
	m.ok("gauge", "", "save", "--message", "Main", "--only", "clash.txt")
	m.ok("gauge", "", "branch", "join", "side", "--clash", "theirs")
	assert.Equal(t, "side\n", m.read("gauge/clash.txt"))
	m.ok("gauge", "", "sync")

	m.ok("gauge", "", "tag", "make", "1.0.0")
	m.ok("gauge", "", "tag", "remove", "1.0.0", "--here", "--yes")
	assert.Contains(t, m.git("gauge", "ls-remote", "-q", "--tags", "origin"), "1.0.0")
	m.ok("gauge", "", "tag", "make", "2.0.0")
	m.ok("gauge", "", "tag", "remove", "2.0.0", "--on-host", "--yes")
	assert.NotContains(t, m.git("gauge", "ls-remote", "-q", "--tags", "origin"), "2.0.0")
	assert.Contains(t, m.git("gauge", "tag"), "2.0.0")

	m.ok("", "", "repository", "create", "other", "--visibility", "public", "--default-branch", "trunk", "--readme", "--yes")
	assert.Equal(t, "trunk", h.Store.List("tern", "other")[0].Default)
	m.ok("gauge", "", "repository", "protect", "main", "--allow-rewriting", "--yes")
	assert.Contains(t, m.ok("", "", "repository", "show", "gauge"), "no deletion")
	m.ok("gauge", "", "repository", "protect", "main", "--allow-deletion", "--yes")
	assert.NotContains(t, m.ok("", "", "repository", "show", "gauge"), "no deletion")
	m.ok("", "", "repository", "import", h.URL+"/tern/other.git", "third", "--visibility", "public", "--description", "Brought over", "--yes")
	third := h.Store.List("tern", "third")
	assert.Equal(t, []string{"public", "Brought over"}, []string{third[0].Visibility, third[0].Description})
}

// TestRareOptionsOfPeople uses what nothing else does, of offers, accounts, keys and machines.
func TestRareOptionsOfPeople(t *testing.T) {
	t.Parallel()
	h, m := attached(t)
	m.write("gauge", map[string]string{"more.txt": "more\n"})
	m.ok("gauge", "", "save", "--message", "More")
	said := m.ok("gauge", "", "offer", "create", "--branch", "more-levels", "--text", "Because they are wanted.", "--yes")
	assert.Contains(t, said, "more-levels")
	assert.Contains(t, m.ok("gauge", "", "offer", "show", "1"), "Because they are wanted.")
	m.ok("gauge", "", "offer", "accept", "1", "--keep-branch", "--yes")
	assert.Contains(t, m.git("gauge", "ls-remote", "-q", "origin"), "refs/heads/more-levels")
	assert.NotContains(t, m.ok("gauge", "", "offer", "list", "--to-me"), "more-levels")

	m.ok("", "", "account", "change", "tern", "--full-name", "Tern of the Pier", "--email", "pier@gannet.example")
	assert.Contains(t, m.ok("", "", "account", "show", "tern"), "Tern of the Pier <pier@gannet.example>")
	m.ok("", h.token["knot"]+"\n", "account", "add", "--host", "gannet", "--full-name", "Knot", "--email", "knot@pier.example")
	assert.Contains(t, m.ok("", "", "account", "show", "knot"), "Knot <knot@pier.example>")
	m.ok("", "", "key", "make", "tern", "--open")
	m.ok("", "", "key", "install", "tern", "--yes")
	m.ok("", "", "key", "rotate", "tern", "--open", "--yes")
	m.ok("", "", "machine", "pack", "set-up", "--root", m.home, "--to", ageRecipient, "--yes")
	m.write("gauge", map[string]string{".gitignore": "kept.log\n", "kept.log": "x"})
	assert.Contains(t, m.ok("", "", "machine", "clear", "--projects", "--with-ignored", "--preview"), "gauge")
	m.ok("", "", "deploy", "make", "tern/gauge", "www", "--branch", "more-levels", "--over", "https", "--yes")
	first := m.read("www/more.txt")
	m.ok("gauge", "", "branch", "switch", "more-levels")
	m.write("gauge", map[string]string{"more.txt": "still more\n"})
	m.ok("gauge", "", "sync", "--save", "--message", "Still more")
	m.ok("", "", "deploy", "update", "www")
	m.ok("", "", "deploy", "back", "www")
	assert.Equal(t, first, m.read("www/more.txt"))
	m.ok("", "", "deploy", "update", "www", "--again")
	assert.Equal(t, "still more\n", m.read("www/more.txt"))
	assert.Contains(t, m.ok("", "", "deploy", "unit", "--listen", "127.0.0.1:8199"), "8199")
	assert.Contains(t, m.ok("", "", "help", "--schema"), "$schema")
	for _, page := range []string{"--descriptions", "--description-schema"} {
		assert.NotEmpty(t, m.ok("", "", "help", page), fmt.Sprint("help ", page))
	}
	assert.Regexp(t, `key-add: as it should be\n  POST .* -> 201`, m.ok("", "", "host", "try", "gannet", "--account", "tern", "--write", "--requests", "--yes"))
}

// TestPlainGitKnowsWhereTheProgramIsAtHome signs plain git in also where UNCINATE_HOME is not set: what git was told has
// credential --home in it.
func TestPlainGitKnowsWhereTheProgramIsAtHome(t *testing.T) {
	t.Parallel()
	_, m := attached(t)
	m.env = slices.DeleteFunc(slices.Clone(m.env), func(v string) bool { return strings.HasPrefix(v, "UNCINATE_HOME=") })
	m.git("gauge", "fetch", "-q", "origin")
	assert.Regexp(t, `credential --account tern .*--home \S*/\.uncinate`, m.git("gauge", "config", "--get-regexp", `^credential\..*`))
}

// ageRecipient is one whose private half nobody has.
const ageRecipient = "age1ql3z7hjy54pw3hyww5ayyfg7zqgvc7w3j2elw8zmrj2kg5sfn9aqmcac8p"
