//go:build linux

package e2e

import (
	"cmp"
	_ "embed"
	"fmt"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// storyLength is how many draws a story has at most. Each begins in a fresh world, so that
// what one finding spoiled does not make others.
const storyLength = 45

// told is what was found of one class.
type told struct {
	finding
	times int
	story []storyStep // the shortest in which it came
}

// teller plays stories and counts.
type teller struct {
	w       *storyWorld
	plain   bool
	counts  map[string]int // runs, by what was run
	trouble map[string]int
	total   int
	found   map[string]*told
	stories int
	said    string         // by the last step's runs
	reach   map[string]int // how far commands went: see reachOf
}

func newTeller(w *storyWorld) *teller {
	return &teller{w: w, counts: map[string]int{}, trouble: map[string]int{}, found: map[string]*told{}, reach: map[string]int{}}
}

// tell draws and plays one story, up to its first finding.
func (t *teller) tell(seed uint64) error {
	if err := t.w.begin(); err != nil {
		return err
	}
	t.stories++
	m := &maker{Rand: rand.New(rand.NewPCG(seed, 12)), w: t.w, now: map[string]moment{}, plain: t.plain, t: t}
	for _, name := range machineNames {
		m.now[name] = t.w.moment(name)
	}
	var played []storyStep
	seen := map[string]bool{}
	for range storyLength {
		next := m.next()
		for len(next) > 0 {
			s := next[0]
			next = next[1:]
			found := t.step(m.now, &s)
			played = append(played, s)
			over := false
			for _, f := range found {
				over = over || !slices.Contains(goesOn, f.rule)
				if !seen[f.class()] {
					t.note(f, played)
				}
				seen[f.class()] = true
			}
			if over {
				return nil
			}
			if len(found) == 0 {
				continue
			}
			next = append(t.unlock(m.now, s), next...)
			if o, _ := s.order(); found[0].rule == ruleStuck && s.words[0] == "at" && m.IntN(2) == 0 {
				if l := m.now[o.machine].in(o.folder); l != nil {
					next = append(m.again(l, s), next...)
				}
			}
		}
	}
	if t.stories%3 == 0 {
		t.later(m.now, played)
	}
	return nil
}

// goesOn are the rules after whose breaking the story goes on: what comes of it is worth
// knowing.
var goesOn = []string{ruleStuck, ruleHalf, ruleTouched, ruleSays, ruleRefused, ruleStep, ruleLooking, ruleStranger}

func (t *teller) note(f finding, story []storyStep) {
	k := t.found[f.class()]
	if k == nil {
		k = &told{finding: f}
		t.found[f.class()] = k
	}
	if k.times++; k.story == nil || len(story) < len(k.story) {
		k.finding, k.story = f, slices.Clone(story)
	}
}

// unlock are the steps of a person who takes away the locks that a killed run left.
func (t *teller) unlock(now map[string]moment, s storyStep) []storyStep {
	var steps []storyStep
	o, _ := s.order()
	for _, l := range now[o.machine].looks {
		for _, n := range l.odd {
			if strings.HasSuffix(n, ".lock") && l.own == l.common {
				steps = append(steps, storyStep{words: []string{"gone", l.path(".git/" + n)}})
			}
		}
	}
	return steps
}

// later looks at all rescue copies once more, when much has gone on since.
func (t *teller) later(now map[string]moment, played []storyStep) {
	for _, name := range machineNames {
		for _, l := range now[name].looks {
			t.w.judgeCopies(l, nil, newCopies(nil, l), func(rule, format string, args ...any) {
				t.note(finding{rule, "what came later", "at", l.machine + "/" + l.folder + ": " + fmt.Sprintf(format, args...)}, played)
			})
		}
	}
}

// step plays one step and judges it, where it ran the program.
func (t *teller) step(now map[string]moment, s *storyStep) []finding {
	o, runs := s.order()
	if !runs {
		t.w.play(s)
		name, _, _ := strings.Cut(s.words[1], "/")
		now[name] = t.w.moment(name)
		t.counts[s.class()]++
		return nil
	}
	before := now[o.machine]
	before.hosts = t.w.lookAtHosts()
	before.held = t.w.holds(before.looks, before.hosts)
	r := t.w.play(s)
	after := t.w.moment(o.machine)
	now[o.machine] = after
	t.said = ""
	for _, run := range r.runs {
		t.said += fmt.Sprintf("%s%sexit %d\n", run.out, run.err, run.code)
	}
	if len(r.runs) == 0 {
		return nil
	}
	t.count(*s, o, r)
	if !o.program() {
		return t.judgeGit(*s, o, before, after, r)
	}
	found := t.w.judge(*s, o, before, after, r)
	for _, l := range after.looks {
		was := before.in(l.folder)
		from := was
		if s.trouble() != "at" {
			from = nil
		}
		t.w.judgeCopies(l, from, newCopies(was, l), func(rule, format string, args ...any) {
			found = append(found, finding{rule, o.name(), s.trouble(), l.machine + "/" + l.folder + ": " + fmt.Sprintf(format, args...)})
		})
	}
	return found
}

// harmless are commands of git after which nothing may be gone either.
var harmless = []string{"git commit", "git push", "git fetch", "git worktree add", "git tag"}

// judgeGit holds plain git to the rules that it keeps: whoever finds fault with it would
// find fault with the program wrongly.
func (t *teller) judgeGit(s storyStep, o order, before, after moment, r ran) []finding {
	var all []finding
	found := func(rule, format string, args ...any) {
		all = append(all, finding{rule, o.name(), s.trouble(), fmt.Sprintf(format, args...)})
	}
	if !t.plain {
		return nil
	}
	for _, l := range after.looks {
		t.w.judgeState(l, before.in(l.folder), found)
	}
	now, was := after.in(o.folder), before.in(o.folder)
	if !slices.Contains(harmless, o.name()) || slices.ContainsFunc([]string{"--force", "--delete", "--prune", "--prune=now", "--expire=now"}, o.has) || now == nil || was == nil {
		return all
	}
	t.w.judgeHeld(o, before, after, r, found)
	t.w.judgeFolder(s, order{o.machine, o.folder, append([]string{"uncinate"}, o.words[1:]...)}, was, now, before, after, ran{runs: []result{{code: 1}}}, found)
	return all
}

// reachOf names a command and a kind of moment at which it can be killed: milliseconds, changes
// in its folder, opens.
func reachOf(name string, time bool, kind string) string {
	if time {
		kind = "ms "
	}
	return kind + name
}

// went notes how far a command went that a kill was meant for: the middle between what was known
// and what was seen, so that one odd run does not count for much.
func (t *teller) went(name string, k *killed) {
	if k == nil || strings.Count(k.event, ":") > 1 || strings.Contains(k.event, "rescue.git") {
		return
	}
	kind, saw := k.event[:strings.Index(k.event, ":")+1], k.saw
	if k.event == "" {
		saw = int(k.took.Milliseconds())
	}
	at := reachOf(name, k.event == "", kind)
	switch was := t.reach[at]; {
	case k.when > 0: // it goes further than this
		t.reach[at] = max(was, saw+saw/4+1)
	case was == 0:
		t.reach[at] = max(saw, 1)
	default:
		t.reach[at] = max((was+saw)/2, 1)
	}
}

func (t *teller) count(s storyStep, o order, r ran) {
	t.went(o.name(), s.cut)
	t.counts[o.name()]++
	t.total += len(r.runs)
	if r.other.words != nil {
		t.counts[r.other.name()]++
	}
	switch name := s.trouble(); {
	case s.words[0] == "fault":
		t.trouble["fault: "+strings.Fields(s.words[1])[0]]++
	case strings.HasPrefix(name, "cut") && !r.cut:
		t.trouble["not killed, since it had ended"]++
	case name != "at":
		t.trouble[name]++
	}
}

// report says what was played and what was found.
func (t *teller) report(seed uint64, took time.Duration) string {
	var b strings.Builder
	fmt.Fprintf(&b, "%d stories, %d commands in %s (%.1f a second), seed %d\n", t.stories, t.total, took.Round(time.Second), float64(t.total)/took.Seconds(), seed)
	for _, of := range []map[string]int{t.counts, t.trouble} {
		names := slices.SortedFunc(maps.Keys(of), func(a, c string) int { return cmp.Or(of[c]-of[a], strings.Compare(a, c)) })
		for i, n := range names {
			if i%4 == 0 {
				fmt.Fprintf(&b, "\n  ")
			}
			fmt.Fprintf(&b, "%-34s", fmt.Sprintf("%5d %s", of[n], n))
		}
		fmt.Fprintln(&b)
	}
	fmt.Fprintf(&b, "\n%d classes of findings\n", len(t.found))
	for _, k := range t.sorted() {
		fmt.Fprintf(&b, "%5d  %s\n         %s\n", k.times, k.class(), k.says)
	}
	return b.String()
}

func (t *teller) sorted() []*told {
	return slices.SortedFunc(maps.Values(t.found), func(a, b *told) int {
		return cmp.Or(b.times-a.times, strings.Compare(a.class(), b.class()))
	})
}

// again plays a story and reports whether it ends in a finding of a class.
func (t *teller) again(story []storyStep, class string) bool {
	if t.w.begin() != nil {
		return false
	}
	for i := range story {
		if i == len(story)-1 {
			break
		}
		t.w.play(&story[i])
	}
	now := map[string]moment{}
	for _, name := range machineNames {
		now[name] = t.w.moment(name)
	}
	quiet := newTeller(t.w)
	quiet.plain = t.plain
	found := quiet.step(now, &story[len(story)-1])
	if strings.Contains(class, "what came later") {
		quiet.later(now, story)
		for _, k := range quiet.found {
			found = append(found, k.finding)
		}
	}
	return slices.ContainsFunc(found, func(f finding) bool { return f.class() == class })
}

// shorten leaves out of a story what it does not need to end in the same finding. A story
// in which it came by chance alone is given back whole, with false.
func (t *teller) shorten(k *told, until time.Time) ([]storyStep, bool) {
	tries := 1
	for _, s := range k.story {
		if name := s.trouble(); name != "at" && name != "files" {
			tries = 3
		}
	}
	class := k.class()
	holds := func(story []storyStep) bool {
		for range tries {
			if time.Now().Before(until) && t.again(slices.Clone(story), class) {
				return true
			}
		}
		return false
	}
	story := k.story
	if !holds(story) {
		return story, false
	}
	for size := len(story) / 2; size >= 1; {
		shorter := false
		for at := 0; at+size < len(story); { // the last step stays
			less := slices.Concat(story[:at], story[at+size:])
			if holds(less) {
				story, shorter = less, true
			} else {
				at += size
			}
		}
		if size == 1 && !shorter {
			break
		}
		if size > 1 {
			size /= 2
		}
	}
	return story, true
}

//go:embed testdata/prelude.sh
var prelude string

// script is a story to be pasted into bash, after the prelude.
func script(k *told, story []storyStep) string {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s\n# %s\n", k.class(), k.says)
	for _, s := range story {
		words := s.words
		if s.cut != nil && s.cut.event != "" && s.cut.when > 0 {
			words = slices.Clone(words)
			words[3] = strconv.FormatInt(s.cut.when.Milliseconds(), 10)
		}
		fmt.Fprintln(&b, storyStep{words: words})
	}
	return b.String()
}

// aFewCommands are played where nothing says how many: with every change the same, so that what
// fails then comes of the change. Fresh ones are drawn by make soak and make stories.
const (
	aFewCommands = "100"
	theSeed      = 7004
)

// TestStories plays random stories for a time or a number of commands, as "make soak" says,
// and shortens one of each class that it finds.
func TestStories(t *testing.T) {
	much := cmp.Or(os.Getenv("UNCINATE_STORIES"), aFewCommands)
	commands, err := strconv.Atoi(much)
	limit := time.Duration(1<<62 - 1)
	if err != nil {
		limit, err = time.ParseDuration(much)
		require.NoError(t, err, "UNCINATE_STORIES is a number of commands, or a time such as 10m")
		commands = 1 << 40
	}
	seed, err := strconv.ParseUint(os.Getenv("UNCINATE_SEED"), 10, 64)
	if err != nil && os.Getenv("UNCINATE_STORIES") != "" {
		seed = rand.Uint64N(1_000_000_000)
	} else if err != nil {
		seed = theSeed
	}
	t.Logf("seed %d", seed)
	teller := newTeller(newStoryWorld(t))
	begun := time.Now()
	for n, said := uint64(0), 0; teller.total < commands && time.Since(begun) < limit; n++ {
		require.NoError(t, teller.tell(seed+n<<32))
		if teller.total/500 > said {
			said = teller.total / 500
			fmt.Fprintf(os.Stderr, "%d commands, %d classes of findings, %s\n", teller.total, len(teller.found), time.Since(begun).Round(time.Second))
		}
	}
	took := time.Since(begun)
	t.Log("\n" + teller.report(seed, took))
	each := 60 * time.Second
	if s, err := time.ParseDuration(os.Getenv("UNCINATE_SHORTEN")); err == nil {
		each = s
	}
	if len(teller.found) > 0 {
		t.Log("\n" + prelude)
	}
	for i, k := range teller.sorted() {
		story, same := teller.shorten(k, time.Now().Add(each))
		says := script(k, story)
		if !same {
			says = "# (it came by chance: the same steps did not show it again)\n" + says
		}
		t.Errorf("found %d times:\n%s", k.times, says)
		if dir := os.Getenv("UNCINATE_STORIES_TO"); dir != "" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%03d.story", i+1)), []byte(says), 0o644))
		}
	}
}

// TestOneStory plays the story of a file, as TestStories prints it, and tells what each of
// its commands printed and what was found.
func TestOneStory(t *testing.T) {
	path := os.Getenv("UNCINATE_STORY")
	if path == "" {
		t.Skip("one story is played by make story FILE=...")
	}
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	w := newStoryWorld(t)
	require.NoError(t, w.begin())
	now := map[string]moment{}
	for _, name := range machineNames {
		now[name] = w.moment(name)
	}
	teller := newTeller(w)
	for line := range strings.Lines(string(data)) {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		s, err := parseStep(line)
		require.NoError(t, err)
		found := teller.step(now, &s)
		t.Logf("%s\n%s", line, teller.said)
		for _, f := range found {
			t.Errorf("%s: %s", f.class(), f.says)
		}
	}
}
