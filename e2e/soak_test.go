package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// most is how many of the cases one run of the tests plays; "make soak" plays all.
const most = 130

// states are the ways in which a project and its hosted repository can begin.
var states = []string{"plain", "unborn", "older", "branches", "empty", "existing", "token", "joined", "joined-unborn", "joined-commits", "joined-ahead", "joined-empty", "first", "large"}

// inPush are the moments inside the push, as faults of the host: while it tells its
// branches, before it takes the work, after it took it and before it answers.
var inPush = []string{"delay=700ms on info/refs", "delay=700ms on git-receive-pack", "late=700ms on git-receive-pack"}

// trouble is one way to spoil an attach, and how the person goes on.
type trouble struct {
	state string
	line  int    // killed when the journal holds so many lines, or
	push  string // killed in this moment of the push, or
	fault string // the host spoils one request
	then  string // "attach" or "detach"
}

func (c trouble) String() string {
	return fmt.Sprintf("%s,%d%s%s,%s", c.state, c.line, c.push, c.fault, c.then)
}

// scene is one project on one machine and one host.
type scene struct {
	*machine
	h     *host
	args  []string
	there string // the hosted repository's refs at the beginning
}

func newScene(t *testing.T, state string) *scene {
	t.Helper()
	h := newHost(t)
	s := &scene{machine: signedIn(t, h), h: h}
	folder := state
	switch state {
	case "existing":
		folder = "unborn" // on another branch than the host's
	case "token", "joined", "first":
		folder = "plain"
	case "large":
		folder = "unborn"
	case "joined-unborn":
		folder = "unborn"
	case "joined-commits", "joined-ahead":
		folder = "older"
	case "joined-empty":
		folder = "empty"
	}
	s.begin("gauge", folder)
	s.args = []string{"attach", "--yes"}
	if strings.HasPrefix(state, "joined") {
		s.args = append(s.args, "--to", "gauge", "--clash", map[bool]string{true: "theirs", false: "both"}[state == "joined"])
		if state == "joined-ahead" {
			_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "gauge", Visibility: "private", Default: "main"})
			require.NoError(t, err)
			s.git("", "clone", "-q", "gauge", "gauge-there")
			s.addTo(h, "gauge", "main", "More", map[string]string{"deep/LICENCE": "Permission.\n", "README.md": "# Changed\n"})
		} else {
			there := map[string]string{"README.md": "# theirs\n", "deep/LICENCE": "Permission.\n", ".gitignore": "# theirs\n*.tmp\n"}
			if state == "joined-commits" {
				delete(there, ".gitignore") // it is here, and in no commit
			}
			s.made(h, "gauge", "trunk", there)
		}
		s.there = sortedLines(readRefs(h.gitDir(t, "tern", "tern", "gauge")))
		return s
	}
	switch state {
	case "branches":
		s.args = append(s.args, "--branches")
	case "first":
		s.args = append(s.args, "--readme", "--licence", "MIT", "--visibility", "public", "--branch", "trunk")
	case "large":
		s.args = append(s.args, "--large", "*.c")
	case "existing", "token":
		_, err := h.Store.Create(t.Context(), "tern", practice.Repo{Owner: "tern", Name: "gauge", Visibility: "private"})
		require.NoError(t, err)
	}
	switch state {
	case "existing":
		s.args = append(s.args, "--to", "gauge")
	case "token":
		s.git("gauge", "init", "-q", "-b", "main")
		config := filepath.Join(s.home, "gauge/.git/config")
		data, err := os.ReadFile(config)
		require.NoError(t, err)
		at := strings.Replace(h.URL, "://", "://tern:"+h.token["tern"]+"@", 1) + "/tern/gauge.git"
		require.NoError(t, os.WriteFile(config, append(data, "[remote \"origin\"]\n\turl = "+at+"\n\tfetch = +refs/heads/*:refs/remotes/origin/*\n"...), 0o644))
	default:
		s.args = append(s.args, "--description", "Levels")
	}
	return s
}

var named = regexp.MustCompile(`[0-9a-f]{16}\.gitconfig`)

// end is all that must be the same at the end, however it was reached: the folder,
// git's configuration, index and branches, and what the host holds.
func (s *scene) end() map[string]string {
	s.t.Helper()
	seen := s.whole("gauge")
	for key, text := range seen {
		text = strings.ReplaceAll(strings.ReplaceAll(text, s.h.URL, "HOST"), s.home, "HOME")
		seen[key] = named.ReplaceAllString(text, "NAME.gitconfig")
	}
	if strings.Contains(seen["config"], "lfs") { // which writes its settings in any order
		lines := strings.Split(seen["config"], "\n")
		lines = slices.DeleteFunc(lines, func(l string) bool { return strings.Contains(l, "locksverify") }) // as far as it was told
		slices.Sort(lines)
		seen["config"] = strings.Join(lines, "\n")
	}
	refs := func(dir string) string {
		// Commits carry their times, so they are told by all else.
		return s.git(dir, "for-each-ref", "--format=%(refname) %(objecttype) %(tree) %(authorname) %(authoremail) %(contents:subject) %(parent)")
	}
	seen["refs"] = refs("gauge")
	all := s.h.Store.List("tern", "")
	seen["hosted repositories"] = strconv.Itoa(len(all))
	for _, r := range all {
		seen["hosted "+r.Name] = fmt.Sprint(r.Owner, r.Visibility, r.Description, r.Default, refs(s.h.Store.GitDir(r.ID)))
	}
	register, err := os.ReadFile(filepath.Join(s.home, ".uncinate/state/register.json"))
	require.NoError(s.t, err)
	seen["register"] = strconv.Itoa(bytes.Count(register, []byte(`"folder"`)))
	left, err := filepath.Glob(filepath.Join(s.home, ".uncinate/state/journal/*"))
	require.NoError(s.t, err)
	seen["journals"] = strings.Join(left, " ")
	return seen
}

// playThrough attaches without trouble: how many lines the journal gets, how many
// requests the host gets, and the end that all others must come to.
func playThrough(t *testing.T, state string) (lines, requests int, end map[string]string) {
	t.Helper()
	s := newScene(t, state)
	require.NoError(t, s.h.Faults.Set([]string{"delay=0s"})) // it notes every request
	s.killWhen("gauge", func(journal []byte) bool { lines = max(lines, bytes.Count(journal, []byte("\n"))); return false }, s.args...)
	return lines, len(s.h.Faults.Log()), s.end()
}

// TestTrouble kills attach (SIGKILL, the runs of git that it leaves behind included)
// wherever its journal grows and inside the push, and loses each request to the host
// and each of its answers. Run again it comes to the same end as without trouble;
// detached, folder and host are as they were.
func TestTrouble(t *testing.T) {
	t.Parallel()
	var all []trouble
	ends := map[string]map[string]string{}
	for _, state := range states {
		lines, requests, end := playThrough(t, state)
		require.Greater(t, lines, 4, state)
		require.Greater(t, requests, 3, state)
		require.Equal(t, "1", end["hosted repositories"], state)
		ends[state] = end
		for _, then := range []string{"attach", "detach"} {
			for n := 1; n <= lines; n++ {
				all = append(all, trouble{state: state, line: n, then: then})
			}
			for _, moment := range inPush {
				if state != "empty" {
					all = append(all, trouble{state: state, push: moment, then: then})
				}
			}
			for n := range requests {
				for _, kind := range []string{"lose", "cut"} {
					all = append(all, trouble{state: state, fault: fmt.Sprintf("%s after %d times 1", kind, n), then: then})
				}
			}
		}
	}
	seed, err := strconv.ParseUint(os.Getenv("UNCINATE_SEED"), 10, 64)
	if err != nil {
		seed = rand.Uint64N(1_000_000_000) // other cases each time; it is told where one fails
	}
	total := len(all)
	if os.Getenv("UNCINATE_SOAK") == "" {
		rand.New(rand.NewPCG(seed, 1)).Shuffle(total, func(i, j int) { all[i], all[j] = all[j], all[i] })
		all = all[:min(total, most)]
	}
	t.Logf("%d of %d cases, seed %d", len(all), total, seed)
	for _, c := range all {
		t.Run(c.String(), func(t *testing.T) {
			t.Parallel()
			c.play(t, ends[c.state])
		})
	}
}

// play makes the trouble, goes on, and compares.
func (c trouble) play(t *testing.T, end map[string]string) {
	s := newScene(t, c.state)
	before := s.whole("gauge")
	switch {
	case c.line > 0:
		s.killAt("gauge", c.line, s.args...)
	case c.push != "":
		require.NoError(t, s.h.Faults.Set([]string{c.push}))
		s.killWhen("gauge", func(journal []byte) bool {
			return bytes.Contains(journal, []byte(`"step":"send","mark":"begun"`)) && slices.ContainsFunc(s.h.Faults.Log(), func(met string) bool {
				return strings.HasPrefix(met, "POST") || strings.Contains(c.push, "info/refs") && strings.Contains(met, "/info/refs")
			})
		}, s.args...)
		require.NoError(t, s.h.Faults.Set(nil))
	default:
		require.NoError(t, s.h.Faults.Set([]string{c.fault}))
		s.run("gauge", "", s.args...)
		require.NotEmpty(t, s.h.Faults.Log(), "the host spoiled nothing")
		require.NoError(t, s.h.Faults.Set(nil))
	}
	s.free()
	if c.state != "token" {
		assert.Empty(t, holders(t, s.h.token["tern"], s.home), "the token is in no journal, nor in anything else that is left")
	}
	if c.then == "detach" && !c.detach(s, before) {
		return
	}
	s.ok("gauge", "", s.args...)
	now := s.end()
	for key := range now {
		assert.Equal(t, end[key], now[key], key)
	}
	assert.Len(t, now, len(end))
}

// detach puts an unfinished attach back and compares; false when the attach had come
// to its end after all, so that only its tie was taken off.
func (c trouble) detach(s *scene, before map[string]string) bool {
	t := s.t
	r := s.run("gauge", "", "detach", "--yes", "--json")
	if r.code == 3 {
		require.Contains(t, r.err, "is not attached to anything")
		assert.Equal(t, before, s.whole("gauge"), "nothing was begun")
		return true
	}
	require.Equal(t, 0, r.code, r.out+r.err)
	var did struct{ Unfinished bool }
	require.NoError(t, json.Unmarshal([]byte(r.out), &did))
	if !did.Unfinished {
		return false
	}
	after := s.whole("gauge")
	if c.state == "token" { // what was moved into the vault does not go back into a file
		after["config"], before["config"] = "", ""
	}
	assert.Equal(t, before, after, "the folder is as it was")
	all := s.h.Store.List("tern", "")
	if c.state != "existing" && c.state != "token" && s.there == "" {
		assert.Empty(t, all, "the host is as it was")
		return true
	}
	require.Len(t, all, 1)
	assert.Equal(t, s.there, sortedLines(readRefs(s.h.Store.GitDir(all[0].ID))), "the host is as it was")
	assert.Equal(t, map[bool]string{true: "trunk", false: "main"}[s.there != "" && c.state != "joined-ahead"], all[0].Default)
	return true
}
