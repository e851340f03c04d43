package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// completions are lines, with a word that is offered behind each, and one that is not; from the twelfth on in a project.
var completions = []struct {
	line string
	want string // among what is offered
	not  string
}{
	{"uncinate att", "attach", "detach"},
	{"uncinate account sh", "show", "list"},
	{"uncinate account show t", "tern", "show"},
	{"uncinate attach --account t", "tern", "--"},
	{"uncinate host show g", "gannet", "tern"},
	{"uncinate attach --vis", "--visibility", "--yes"},
	{"uncinate attach --visibility m", "members", "public"},
	{"uncinate status g", "gauge", "elsewhere"},
	{"uncinate attach e", "elsewhere/", "gauge"},
	{"uncinate vault make --by k", "keyring", "file"},
	{"uncinate completion f", "fish", "bash"},
	{"uncinate rescue show 1", "1", "2"},
	{"uncinate clone tern/unc", "tern/uncloned", "gannet"},
	{"uncinate attach --licence M", "MIT", "ISC"},
	{"uncinate account add --by d", "device", "keyring"},
	{"uncinate offer accept --way r", "replay", "merge"},
	{"uncinate settings set res", "rescue.days", "machine"},
	{"uncinate access grant --right w", "write", "read"},
	{"uncinate account add --may pu", "publish", "people"},
	{"uncinate tour ev", "every-day", "attach"},
	{"uncinate save --only lev", "level.txt", "other"},
	{"uncinate history sub/", "sub/inside.txt", "level"},
	{"uncinate settle mine lev", "level.txt", "other"},
	{"uncinate undo file --to 1", "1.0.0", "main"},
	{"uncinate tag remove 1", "1.0.0", "main"},
	{"uncinate branch switch si", "side", "main"},
	{"uncinate host try g", "gannet", "tern"},
	{"uncinate repository show --account t", "tern", "gannet"},
	{"uncinate offer show 1", "1", "main"},
}

// TestCompletion lets the real shells complete.
func TestCompletion(t *testing.T) {
	t.Parallel()
	needs(t, "bash", "bash")
	needs(t, "zsh", "zsh")
	needs(t, "fish", "fish")
	h := newHost(t)
	m := signedIn(t, h)
	require.NoError(t, os.Mkdir(filepath.Join(m.home, "bin"), 0o755))
	require.NoError(t, os.Symlink(program, filepath.Join(m.home, "bin/uncinate")))
	m.env = append(m.env, "PATH="+filepath.Join(m.home, "bin")+":"+os.Getenv("PATH"))
	m.project("gauge firmware")
	m.ok("gauge firmware", "", "attach", "--yes", "--name", "gauge")
	m.write("elsewhere", map[string]string{"a": "a"})
	m.write("gauge firmware", map[string]string{"level.txt": "3\n", "sub/inside.txt": "in\n"})
	m.ok("gauge firmware", "", "sync", "--save", "--message", "More")
	m.write("gauge firmware", map[string]string{"level.txt": "spoilt\n"})
	m.ok("gauge firmware", "", "undo", "changes", "--yes")
	m.ok("gauge firmware", "", "branch", "make", "side", "--switch")
	m.ok("gauge firmware", "", "tag", "make", "1.0.0")
	m.write("gauge firmware", map[string]string{"side.txt": "side\n"})
	m.ok("gauge firmware", "", "save", "--message", "Side")
	m.ok("gauge firmware", "", "offer", "create", "--yes")
	m.ok("", "", "repository", "create", "uncloned", "--yes")
	for i, c := range completions {
		// bash: as readline does, the words are set and the function is called.
		words := strings.Fields(c.line)
		script := "source <(uncinate completion bash)\nCOMP_WORDS=("
		for _, w := range words {
			script += "'" + w + "' "
		}
		script += ")\nCOMP_CWORD=$((${#COMP_WORDS[@]} - 1))\n_uncinate_words\nprintf '%s\\n' \"${COMPREPLY[@]}\"\n"
		in := ""
		if i > 10 {
			in = "gauge firmware"
		}
		r := m.command(in, script, "bash", "--norc", "-s")
		assert.Equal(t, 0, r.code, r.err)
		assert.Contains(t, r.out, c.want, "bash: %s", c.line)
		assert.NotContains(t, r.out, c.not, "bash: %s", c.line)

		r = m.command(in, "", "fish", "--no-config", "-c", "uncinate completion fish | source; complete -C '"+c.line+"'")
		assert.Equal(t, 0, r.code, r.err)
		assert.Contains(t, r.out, c.want, "fish: %s", c.line)
		for line := range strings.SplitSeq(r.out, "\n") {
			word, _, _ := strings.Cut(line, "\t")
			assert.NotContains(t, word, c.not, "fish: %s", c.line)
		}
	}
	completesAtTheKeyboard(t, m)
}

// completesAtTheKeyboard types into shells as a person does.
func completesAtTheKeyboard(t *testing.T, m *machine) {
	t.Helper()
	// zsh and bash with a person at the keyboard.
	m.env = append(m.env, "PS1=begin> ")
	for _, shell := range []struct {
		start []string
		load  string
	}{
		{[]string{"zsh", "-f", "-i"}, "autoload -Uz compinit; compinit -u -D; source <(uncinate completion zsh)"},
		{[]string{"bash", "--norc", "-i"}, "source <(uncinate completion bash)"},
	} {
		k := m.talkTo("", shell.start[0], shell.start[1:]...)
		k.asked("begin> ", "PS1='rea''dy> '; "+shell.load+"\n")
		k.asked("ready> ", "uncinate account show t\t")
		k.asked("ern", "\n") // a shell writes only what is new
		k.asked("tern@gannet.example", "uncinate status g\t")
		k.asked(`auge\ firmware/`, "\n")
		k.asked("in step", "exit\n")
		k.ends()
	}
	m.refused(2, []string{"there is completion for bash, zsh and fish", "Did you mean zsh?"}, "", "", "completion", "zshh")

	// Where nothing is set up, completion is silent, not wrong.
	empty := newMachine(t)
	assert.Empty(t, empty.ok("", "", "completion", "words", "--", "account", "show", ""))
	assert.Contains(t, empty.ok("", "", "completion", "words", "--", ""), "attach\t")
}

// TestManualPages lets a real formatter read the pages.
func TestManualPages(t *testing.T) {
	t.Parallel()
	needs(t, "mandoc", "mandoc")
	m := newMachine(t)
	assert.Contains(t, m.ok("", "", "help", "--man", "man1"), "manual pages in man1")
	pages, err := filepath.Glob(filepath.Join(m.home, "man1/*.1"))
	require.NoError(t, err)
	assert.Greater(t, len(pages), 14)
	for _, page := range pages {
		r := m.command("", "", "mandoc", "-T", "lint", "-W", "error", page)
		assert.Equal(t, 0, r.code, r.out+r.err)
	}
	r := m.command("", "", "mandoc", "-T", "ascii", filepath.Join(m.home, "man1/uncinate-attach.1"))
	text := strings.ReplaceAll(r.out, "_\b", "")
	for i := strings.IndexByte(text, '\b'); i >= 0; i = strings.IndexByte(text, '\b') {
		text = text[:i-1] + text[i+1:] // bold is a letter struck over itself
	}
	for _, words := range []string{"uncinate-attach - publish a local project", "uncinate attach [options] [FOLDER]", "--visibility WHO", "EXAMPLES", "uncinate attach --preview"} {
		assert.Contains(t, text, words)
	}
}
