//go:build linux

package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// planted are faults, each with a story that meets it in its last step. The rule that finds
// it is the fault's name, up to a word that tells two of one rule apart.
var planted = []struct{ kind, rule, story string }{
	{"lost", ruleLost, "put pier/gauge/tide.log one\nat pier gauge uncinate status"},
	{"lost commit", ruleLost, "put hut/gauge/deck.txt one\nat pier gauge git checkout -q deck\nput pier/gauge/deck.txt two\nat pier gauge git commit -q -a -m Two\nat pier gauge git checkout -q main\nat pier gauge uncinate status"},
	{"written line lost", ruleLine, "writing pier/gauge/tide.log at pier gauge uncinate status"},
	{"rescue copy not whole", ruleCopy, "put pier/gauge/deck.txt one\nat pier gauge git commit -q -m None\nat pier gauge uncinate branch make scale --switch\nput pier/gauge/scale.txt one\nat pier gauge uncinate save One\nput pier/gauge/scale.txt two\nat pier gauge uncinate save Two\nat pier gauge uncinate branch switch main\nat pier gauge uncinate branch remove scale --yes"},
	{"damaged", ruleDamaged, "at pier gauge uncinate status"},
	{"shallow", ruleShallow, "at pier gauge uncinate status"},
	{"refs of ours", ruleRefs, "at pier gauge uncinate status"},
	{"half state", ruleHalf, "at pier gauge uncinate status"},
	{"half state lock", ruleHalf, "at pier gauge uncinate status"},
	{"stuck", ruleStuck, "cut all 0 2 at pier gauge uncinate sync --yes"},
	{"not in step", ruleStep, "put pier/gauge/notes.txt one\nat pier gauge git commit -q -a -m One\nat pier gauge uncinate sync --yes"},
	{"touched", ruleTouched, "at pier gauge uncinate status"},
	{"touched mode", ruleTouched, "at pier gauge uncinate status"},
	{"exit code", ruleCode, "at pier gauge uncinate status"},
	{"panic", rulePanic, "at pier gauge uncinate status"},
	{"hangs", ruleHangs, "at pier gauge uncinate status"},
	{"changed by looking", ruleLooking, "at pier gauge uncinate status"},
	{"changed though refused", ruleRefused, "at pier gauge uncinate sync --yes"},
	{"left over", ruleStranger, "at pier gauge uncinate sync --yes"},
	{"not one's own", ruleOwn, "put pier/gauge/notes.txt one\ncut-then all 0 2 'uncinate save Then' at pier gauge uncinate sync --yes"},
	{"says what is not so", ruleSays, "at pier gauge uncinate branch remove deck --yes"},
}

// TestStoriesFindWhatIsPlanted plays stories against a program that does one thing wrong,
// and the same stories against the program itself, where the rule finds nothing; then plain
// git alone, where nothing is found at all.
func TestStoriesFindWhatIsPlanted(t *testing.T) {
	t.Parallel()
	w := newStoryWorld(t)
	t.Run("plain git", func(t *testing.T) { plainGitIsRight(t, w) })
	wrong := filepath.Join(t.TempDir(), "planted")
	out, err := exec.Command("go", "build", "-tags", "planted", "-o", wrong, "./planted").CombinedOutput()
	require.NoError(t, err, string(out))
	w.longest = 3 * time.Second
	env := slices.Clone(w.all["pier"].env)
	for _, p := range planted {
		t.Run(p.kind, func(t *testing.T) {
			w.all["pier"].env = append(slices.Clone(env), "PLANTED="+p.kind, "PLANTED_PROGRAM="+program)
			assert.True(t, w.finds(t, p.story, p.rule, wrong), "the planted fault was not found")
			assert.False(t, w.finds(t, p.story, p.rule, program), "found in the program itself")
		})
	}
}

// finds plays a story, its last step against a program, and reports whether a rule was
// found broken by it.
func (w *storyWorld) finds(t *testing.T, story, rule, against string) bool {
	t.Helper()
	require.NoError(t, w.begin())
	teller := newTeller(w)
	now := map[string]moment{}
	var found []finding
	lines := strings.Split(story, "\n")
	for i, line := range lines {
		s, err := parseStep(line)
		require.NoError(t, err)
		if w.program = program; i == len(lines)-1 {
			w.program = against
			for _, name := range machineNames {
				now[name] = w.moment(name)
			}
			found = teller.step(now, &s)
		} else {
			w.play(&s)
		}
	}
	return slices.ContainsFunc(found, func(f finding) bool { return f.rule == rule })
}

// plainGitIsRight plays stories of plain git alone, 1,000 commands of it in a soak.
func plainGitIsRight(t *testing.T, w *storyWorld) {
	commands := 40
	if os.Getenv("UNCINATE_SOAK") != "" {
		commands = 1000
	}
	teller := newTeller(w)
	teller.plain = true
	for seed := uint64(1); teller.total < commands; seed++ {
		require.NoError(t, teller.tell(seed))
	}
	assert.Empty(t, teller.found, teller.report(1, time.Second))
}

// TestStoriesCanBePasted pastes a story into bash, after the prelude, as a person would.
func TestStoriesCanBePasted(t *testing.T) {
	t.Parallel()
	linux(t)
	needs(t, "bash", "bash")
	dir := t.TempDir()
	require.NoError(t, os.Symlink(program, filepath.Join(dir, "uncinate")))
	c := exec.Command("bash", "-s")
	c.Env = []string{"PATH=" + dir + ":" + os.Getenv("PATH"), "HOME=" + dir, "TMPDIR=" + dir, "LC_ALL=C.UTF-8"}
	c.Stdin = strings.NewReader(prelude + `
put pier/gauge/place/staged.txt 'a line' another
at pier gauge git add -A -- place
name pier/gauge/place pier/gauge/tables/place
cut all 0 300 at launch gauge uncinate status
both 'hut gauge uncinate status' at pier gauge git status --porcelain
kill $practice; umount "$top/homes"
`)
	out, err := c.CombinedOutput()
	require.NoError(t, err, string(out))
	assert.Contains(t, string(out), "AD place/staged.txt\n?? tables/place/\n")
	assert.Equal(t, 3, strings.Count(string(out), "gauge on branch main"), string(out))
}
