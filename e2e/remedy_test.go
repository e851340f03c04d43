package e2e

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Whatever any test is told to do next is pasted as it is, in the very situation in which it was
// told: in copies of the machine's home and of the hosts' folders, in their places, which are put back
// afterwards. It must not be a wrong usage, and not end in the error from which it is to lead out.

// advice is one remedy, and what it was told about.
type advice struct{ about, command string }

// pasting keeps count of the remedies that were pasted, each shape once.
type pasting struct {
	mu    sync.Mutex
	seen  map[string]bool
	hosts map[string][]*host // by the test that they serve
	took  time.Duration      // of processors
}

var remedies = &pasting{seen: map[string]bool{}, hosts: map[string][]*host{}}

// fewest is how many remedies a run of all tests must have pasted.
const fewest = 150

// serves notes that a host serves a test and those inside it.
func (p *pasting) serves(t *testing.T, h *host) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.hosts[t.Name()] = append(p.hosts[t.Name()], h)
}

// of gives the hosts of a test, and of those around it.
func (p *pasting) of(t *testing.T) (all []*host) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for name := t.Name(); ; {
		all = append(all, p.hosts[name]...)
		at := strings.LastIndexByte(name, '/')
		if at < 0 {
			return all
		}
		name = name[:at]
	}
}

// enough tells whether a run of all tests met as many remedies as there are.
func (p *pasting) enough() int {
	fmt.Fprintf(os.Stderr, "%d remedies were pasted, in %.1f CPU seconds\n", len(p.seen), p.took.Seconds())
	if part := flag.Lookup("test.run").Value.String() + flag.Lookup("test.skip").Value.String() + flag.Lookup("test.list").Value.String(); part != "" || len(p.seen) >= fewest {
		return 0
	}
	fmt.Fprintf(os.Stderr, "they should be %d at least\n", fewest)
	return 1
}

var (
	inSentence = regexp.MustCompile(`(?m)(?:^Next: |: )(uncinate .+)$`)
	numbers    = regexp.MustCompile(`[0-9]+`)
)

// remediesIn finds the commands that a message tells to run.
func remediesIn(r result) []advice {
	var all []advice
	says := firstSaid(r.err)
	out := r.out
	if strings.HasPrefix(out, "{") || strings.HasPrefix(out, "[") { // a document tells the same
		out = ""
	}
	for line := range strings.Lines(r.err + "\n" + out) {
		line = strings.TrimRight(line, "\n")
		if command, is := strings.CutPrefix(line, "      "); is && command != "" && command[0] != ' ' {
			all = append(all, advice{says, command})
		} else if found := inSentence.FindStringSubmatch(line); found != nil {
			all = append(all, advice{says, found[1]})
		}
	}
	return all
}

// firstSaid is the error's own sentence.
func firstSaid(errs string) string {
	for line := range strings.Lines(errs) {
		if says, is := strings.CutPrefix(strings.TrimSpace(line), "uncinate: "); is {
			return says
		}
	}
	return ""
}

// shape is what a remedy has in common with those that differ in names alone.
func (m *machine) shape(x advice, args []string) string {
	var words []string
	for _, w := range strings.Fields(x.command) {
		switch {
		case strings.HasPrefix(w, "-"), len(words) < 3 && !strings.ContainsAny(w, "/'.:"):
			words = append(words, w)
		default:
			words = append(words, "_")
		}
	}
	about := strings.Fields(numbers.ReplaceAllString(x.about, "#"))
	if len(about) == 0 {
		about = args[:min(1, len(args))]
	}
	return strings.Join(about[:min(2, len(about))], " ") + " | " + strings.Join(words, " ")
}

// filled puts values in the places of the words that stand for them.
func (m *machine) filled(command string, h *host) string {
	at, address := "gannet", "http://127.0.0.1:9/tern/gauge.git"
	if h != nil {
		at, address = h.Name, h.URL+"/tern/other.git"
	}
	for _, x := range [][2]string{{"--email ADDRESS", "--email tern@gannet.example"}, {"user.email ADDRESS", "user.email tern@gannet.example"}, {"--public FILE", "--public " + filepath.Join(m.home, "spare.pub")}, {"127.0.0.1:PORT", "127.0.0.1:9"}, {"ADDRESS", address},
		{"FOLDER", "gauge"}, {"NEW-NAME", "spare-branch"}, {"NEW-PLACE", "."}, {"NAME", "spare"}, {"HOST", at}, {"ACCOUNT", "tern"}, {"REPOSITORY", "gauge"}, {"COMMAND", "sync"},
		{"PATH", "README.md"}, {"FILE", "README.md"}, {"TEXT", "'as it was'"}, {"NUMBER", "1"}, {"COMMIT", "HEAD"}, {"BRANCH", "main"}, {"RULE", "'*.tmp'"}, {"VALUE", "1"}, {"'SHA256:...'", "SHA256:" + strings.Repeat("A", 43)}, {"SHA256:...", "SHA256:" + strings.Repeat("A", 43)}} {
		command = regexp.MustCompile(`(^|[ /=])`+regexp.QuoteMeta(x[0])+`($|[ /])`).ReplaceAllString(command, "${1}"+x[1]+"${2}")
	}
	return command
}

// notPasted are commands that leave the machine as the tests know it, or that wait for a person.
var notPasted = []string{"sudo ", "ssh-keygen", "unset ", "uncinate practice", "uncinate tour", "uncinate visit", "export ", "git lfs ", "git mv ", "ssh ", "ssh-add", "vi ", "uncinate vault unlock"}

// paste pastes the remedies of a result whose shape was not met before.
func (m *machine) paste(dir string, args []string, r result) {
	m.t.Helper()
	hosts := remedies.of(m.t)
	if r.code == 0 && !strings.Contains(r.out+r.err, "uncinate ") || m.runs.Load() > 0 || m.alone || slices.ContainsFunc(hosts, func(h *host) bool { return !h.Faults.Idle() }) {
		return
	}
	for _, x := range remediesIn(r) {
		if slices.ContainsFunc(notPasted, func(no string) bool { return strings.HasPrefix(x.command, no) }) || strings.Contains(x.command, "--by device") || strings.Contains(x.command, "--by browser") || strings.Contains(x.command, "[options]") || strings.Contains(x.command, "deploy-key.pub") {
			continue
		}
		remedies.mu.Lock()
		key := m.shape(x, args)
		known := remedies.seen[key]
		remedies.seen[key] = true
		remedies.mu.Unlock()
		if !known {
			m.pasteOne(dir, x, r, hosts)
		}
	}
}

// pasteOne pastes one remedy, and looks what comes of it.
func (m *machine) pasteOne(dir string, x advice, before result, hosts []*host) {
	m.t.Helper()
	var first *host // the one that it is about
	if len(hosts) > 0 {
		first = hosts[max(0, slices.IndexFunc(hosts, func(h *host) bool { return strings.Contains(x.command+x.about, h.Name) }))]
	}
	command := m.filled(x.command, first)
	back, err := m.aside(hosts)
	require.NoError(m.t, err)
	in := "yes\n"
	if first != nil {
		token, err := first.NewToken("tern", time.Now().AddDate(0, 6, 0))
		require.NoError(m.t, err)
		in = token.Secret + "\n"
	}
	m.write("", map[string]string{"spare.pub": "ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAI" + strings.Repeat("A", 43) + " spare\n"})
	most := 30 * time.Second
	stays := strings.Contains(command, "deploy watch") // until it is interrupted
	if stays {
		most = 3 * time.Second
	}
	ctx, cancel := context.WithTimeout(m.t.Context(), most)
	defer cancel()
	c := exec.CommandContext(ctx, "bash", "-c", command)
	c.Dir = filepath.Join(m.home, dir)
	if filepath.IsAbs(dir) {
		c.Dir = dir
	}
	c.Env = append(slices.Clone(m.env), "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "GIT_EDITOR=true", "U="+program)
	c.Stdin = strings.NewReader(in)
	out, err := c.CombinedOutput()
	require.NoError(m.t, back())
	code := c.ProcessState.ExitCode()
	remedies.mu.Lock()
	remedies.took += c.ProcessState.UserTime() + c.ProcessState.SystemTime()
	remedies.mu.Unlock()
	what := fmt.Sprintf("told:\n%s%s\npasted: %s\ngave %d: %s", before.out, before.err, command, code, out)
	assert.Equal(m.t, stays, ctx.Err() != nil, what)
	if strings.Contains(command, "uncinate ") {
		assert.NotEqual(m.t, 2, code, what)
		assert.NotEqual(m.t, 127, code, what)
		if code != 0 && x.about != "" && !strings.Contains(command, "settle by-hand") { // that, the person has to edit first
			assert.NotEqual(m.t, x.about, firstSaid(string(out)), what)
		}
	} else {
		assert.NoError(m.t, err, what)
	}
}

// aside puts copies of the home and of the hosts' folders in their places; back ends that.
func (m *machine) aside(hosts []*host) (back func() error, err error) {
	places := []string{m.home}
	for _, h := range hosts {
		places = append(places, h.dir)
	}
	for _, p := range places {
		if err := os.Rename(p, p+".aside"); err != nil {
			return nil, err
		}
		if err := copyTree(p+".aside", p); err != nil {
			return nil, err
		}
	}
	return func() error {
		var all error
		for _, p := range places {
			all = errors.Join(all, os.RemoveAll(p), os.Rename(p+".aside", p))
		}
		for _, h := range hosts {
			all = errors.Join(all, h.Store.Reload())
		}
		return all
	}, nil
}
