package e2e

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/practice"
)

// A story is a file of stories/: a title, words, commands as they are typed, and what is to be seen of what they print.
//
//	# TITLE
//	hosts: NAME...                 practice hosts that it needs, with their demo users (gannet where none is named)
//	demo: MACHINE                  the demo projects are in that machine's home
//	words between                  are told
//	MACHINE:FOLDER$ COMMAND        is run by bash; a machine is there, with an empty home, once it is named
//	MACHINE:FOLDER& COMMAND        is run until it waits for its person, who goes on at the next line that begins with page:
//	page: USER                     USER enters the code that was shown on the host's page
//	<< TEXT                        is what is typed, or comes on standard input
//	  TEXT                         is to be seen in what the command prints, in this order
//	  (exit N)                     is how it ends; 0 where nothing is said
//
// {gannet} is a host's address, {token USER HOST} a token, {token USER HOST SCOPE,SCOPE DAYS} one that may do so much so long.
type tale struct {
	name, title string
	hosts       []string
	demo        string
	parts       []*toldPart
}

// toldPart is a part of a tale: words, or a command with what is to be seen and what was.
type toldPart struct {
	words                    string
	machine, folder, command string
	page                     string
	waits                    bool
	in                       string
	want                     []string
	code                     int
	typed, said              string // as it was played
}

var promptLine = regexp.MustCompile(`^([a-z]+)(?::(\S*))?([$&]) (.*)$`)

func readTale(t *testing.T, path string) *tale {
	t.Helper()
	data, err := os.ReadFile(path)
	require.NoError(t, err)
	x := &tale{name: strings.TrimSuffix(filepath.Base(path), ".story"), hosts: []string{"gannet"}}
	lines := strings.Split(strings.TrimRight(string(data), "\n"), "\n")
	assert.Less(t, len(lines), 40, "%s is to be read at once", path)
	last := func() *toldPart {
		require.NotEmpty(t, x.parts, path)
		return x.parts[len(x.parts)-1]
	}
	for i, line := range lines {
		at := fmt.Sprintf("%s:%d", path, i+1)
		m := promptLine.FindStringSubmatch(line)
		switch {
		case strings.HasPrefix(line, "# "):
			x.title = line[2:]
		case strings.HasPrefix(line, "hosts: "):
			x.hosts = strings.Fields(line[7:])
		case strings.HasPrefix(line, "demo: "):
			x.demo = line[6:]
		case m != nil:
			x.parts = append(x.parts, &toldPart{machine: m[1], folder: m[2], waits: m[3] == "&", command: m[4]})
		case strings.HasPrefix(line, "page: "):
			x.parts = append(x.parts, &toldPart{page: line[6:]})
		case strings.HasPrefix(line, "<< "):
			last().in += line[3:] + "\n"
		case strings.HasPrefix(line, "  (exit "):
			last().code, err = strconv.Atoi(strings.Trim(line, " (exit)"))
			require.NoError(t, err, at)
		case strings.HasPrefix(line, "  "):
			last().want = append(last().want, strings.TrimSpace(line))
		case len(x.parts) > 0 && last().words != "" && line != "":
			last().words += "\n" + line
		default:
			x.parts = append(x.parts, &toldPart{words: line})
		}
	}
	require.NotEmpty(t, x.title, path)
	x.parts = slices.DeleteFunc(x.parts, func(p *toldPart) bool { return p.words == "" && p.command == "" && p.page == "" })
	return x
}

// telling is a tale that is played.
type telling struct {
	t        *testing.T
	tale     *tale
	hosts    map[string]*host
	machines map[string]*machine
	waiting  *exec.Cmd
	said     *watched
}

// watched is what a command that waits has printed.
type watched struct {
	mu    sync.Mutex
	all   strings.Builder
	once  sync.Once
	ready chan struct{}
}

func (w *watched) Write(p []byte) (int, error) {
	w.mu.Lock()
	defer w.mu.Unlock()
	n, err := w.all.Write(p)
	if strings.Contains(w.all.String(), "Waiting for that") {
		w.once.Do(func() { close(w.ready) })
	}
	return n, err
}

func (w *watched) String() string {
	w.mu.Lock()
	defer w.mu.Unlock()
	return w.all.String()
}

var placed = regexp.MustCompile(`\{([a-z][a-z0-9 ,-]*)\}`)

// filled puts addresses and tokens where the tale names them.
func (p *telling) filled(s string) string {
	return placed.ReplaceAllStringFunc(s, func(x string) string {
		words := strings.Fields(strings.Trim(x, "{}"))
		if h := p.hosts[words[0]]; h != nil && len(words) == 1 {
			return h.URL
		}
		if words[0] != "token" || len(words) < 3 || p.hosts[words[2]] == nil {
			return x
		}
		h := p.hosts[words[2]]
		if len(words) == 3 {
			return h.token[words[1]]
		}
		days, err := strconv.Atoi(words[4])
		require.NoError(p.t, err)
		begins := map[string]string{"gannet": "plunge~", "petrel": "burrow+", "fulmar": "oil~"}[words[2]]
		token, err := h.Store.NewToken(begins, words[1], strings.Split(words[3], ","), time.Now().AddDate(0, 0, days))
		require.NoError(p.t, err)
		return token
	})
}

func (p *telling) machine(name string) *machine {
	if p.machines[name] == nil {
		m := newMachine(p.t)
		m.env = append(m.env, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"), "USER=tern", "COLUMNS=90", "GIT_EDITOR=true", "GIT_TERMINAL_PROMPT=0")
		if p.tale.demo == name {
			require.NoError(p.t, practice.WriteProjects(m.home))
		}
		p.machines[name] = m
	}
	return p.machines[name]
}

func (p *telling) play(x *toldPart) {
	if x.page != "" {
		p.enters(x)
		return
	}
	m := p.machine(x.machine)
	defer func() { x.typed = p.shown(p.filled(x.command)) }()
	dir := filepath.Join(m.home, x.folder)
	require.NoError(p.t, os.MkdirAll(dir, 0o755))
	ctx, stop := context.WithTimeout(context.Background(), time.Minute)
	if !x.waits {
		defer stop()
	}
	p.t.Cleanup(stop)
	c := exec.CommandContext(ctx, "bash", "-c", p.filled(x.command))
	c.Dir, c.Env, c.Stdin = dir, m.env, strings.NewReader(p.filled(x.in))
	out := &watched{ready: make(chan struct{})}
	c.Stdout, c.Stderr = out, out
	if x.waits {
		require.NoError(p.t, c.Start())
		select {
		case <-out.ready:
		case <-ctx.Done():
			require.Fail(p.t, "it never waited", out.String())
		}
		p.waiting, p.said = c, out
		x.said = out.String()
		return
	}
	err := c.Run()
	x.said = p.shown(out.String())
	if _, exits := err.(*exec.ExitError); err != nil && !exits {
		require.NoError(p.t, err)
	}
	require.Equal(p.t, x.code, c.ProcessState.ExitCode(), "%s$ %s\n%s", x.machine, x.command, x.said)
}

// enters lets somebody enter the code that was shown, and waits for the command's end.
func (p *telling) enters(x *toldPart) {
	h := p.hosts[p.tale.hosts[0]]
	before := p.said.String()
	code := codeShown.FindStringSubmatch(before)
	require.NotNil(p.t, code, before)
	require.Contains(p.t, fills(p.t, h.URL+"/gangway/enter", url.Values{"code": {code[1]}, "user": {x.page}, "token": {h.token[x.page]}, "say": {"yes"}}), "signed in")
	require.NoError(p.t, p.waiting.Wait(), p.said.String())
	x.said = p.shown(strings.TrimPrefix(p.said.String(), before))
}

// shown is what was printed, with the machines' homes and the hosts' ports as anybody may see them.
func (p *telling) shown(s string) string {
	for _, m := range p.machines {
		s = strings.ReplaceAll(s, m.home, "/home/tern")
	}
	for i, name := range []string{"gannet", "petrel", "fulmar"} {
		if h := p.hosts[name]; h != nil {
			s = strings.ReplaceAll(s, strings.TrimPrefix(h.URL, "http://"), "127.0.0.1:"+strconv.Itoa(8765+i))
			for _, token := range h.token {
				assert.NotContains(p.t, s, token, "a token is shown")
			}
		}
	}
	return s
}

// sees holds that what is to be seen was, in its order.
func (x *toldPart) sees(t *testing.T) {
	t.Helper()
	flat := func(s string) string { return strings.Join(strings.Fields(s), " ") }
	rest := flat(x.said)
	for _, w := range x.want {
		i := strings.Index(rest, flat(w))
		if !assert.GreaterOrEqual(t, i, 0, "%s:%s$ %s\ndoes not print, behind what was seen: %s\n%s", x.machine, x.folder, x.command, w, x.said) {
			return
		}
		rest = rest[i+len(flat(w)):]
	}
}

func tales(t *testing.T) []string {
	t.Helper()
	all, err := filepath.Glob("stories/*.story")
	require.NoError(t, err)
	require.NotEmpty(t, all)
	return all
}

// TestTold plays each story from empty homes to its end; with UNCINATE_TOLD set it prints them as pages, with what was seen.
func TestTold(t *testing.T) {
	t.Parallel()
	for _, path := range tales(t) {
		x := readTale(t, path)
		t.Run(x.name, func(t *testing.T) {
			t.Parallel()
			p := &telling{t: t, tale: x, hosts: map[string]*host{}, machines: map[string]*machine{}}
			for _, name := range x.hosts {
				p.hosts[name] = newHostOf(t, name)
			}
			for _, part := range x.parts {
				if part.words == "" {
					p.play(part)
					part.sees(t)
				}
			}
			if os.Getenv("UNCINATE_TOLD") != "" && !t.Failed() {
				require.NoError(t, os.MkdirAll("../docs/stories", 0o755))
				f, err := os.Create("../docs/stories/" + x.name + ".md")
				require.NoError(t, err)
				x.print(f)
				require.NoError(t, f.Close())
			}
		})
	}
}

// print writes a tale as a page.
func (x *tale) print(w io.Writer) {
	fmt.Fprintf(w, "# %s\n\nPlayed by `make test` on the practice hosts from `e2e/stories/%s.story`, and printed from there with what was seen.\n", x.title, x.name)
	open := false
	for _, p := range x.parts {
		if p.words != "" {
			if open {
				fmt.Fprintln(w, "```")
			}
			open = false
			fmt.Fprintf(w, "\n%s\n", p.words)
			continue
		}
		if !open {
			fmt.Fprint(w, "\n```console\n")
			open = true
		}
		if p.page != "" {
			fmt.Fprintf(w, "(%s enters the code on the host's page)\n%s", p.page, ended(p.said))
			continue
		}
		fmt.Fprintf(w, "%s%s$ %s\n", p.machine, cmp.Or(map[bool]string{true: ":" + p.folder}[p.folder != ""], ""), p.typed)
		for line := range strings.Lines(p.in) {
			line = strings.TrimSpace(line)
			if strings.HasPrefix(line, "{token") {
				line = "(the token of " + strings.Fields(line)[1] + ", which is not shown)"
			}
			fmt.Fprintf(w, "%s\n", line)
		}
		fmt.Fprint(w, ended(p.said))
		if p.code != 0 {
			fmt.Fprintf(w, "(it ends with %d)\n", p.code)
		}
	}
	if open {
		fmt.Fprintln(w, "```")
	}
}

// ended is a text with a newline at its end, too long ones shortened.
func ended(s string) string {
	s = strings.TrimRight(s, "\n")
	if lines := strings.Split(s, "\n"); len(lines) > 40 {
		s = strings.Join(lines[:30], "\n") + "\n... " + strconv.Itoa(len(lines)-30) + " lines more"
	}
	if s == "" {
		return ""
	}
	return s + "\n"
}

// TestToldPages holds that the pages are what the stories are: make told writes them anew.
func TestToldPages(t *testing.T) {
	index, err := os.ReadFile("../docs/stories.md")
	require.NoError(t, err)
	for _, path := range tales(t) {
		x := readTale(t, path)
		if os.Getenv("UNCINATE_TOLD") != "" {
			continue
		}
		assert.Contains(t, string(index), "- ["+x.title+"](stories/"+x.name+".md)\n", "make told")
		page, err := os.ReadFile("../docs/stories/" + x.name + ".md")
		require.NoError(t, err, "make told")
		flat := strings.Join(strings.Fields(string(page)), " ")
		for _, p := range x.parts {
			for _, want := range append([]string{p.words}, p.want...) {
				assert.Contains(t, flat, strings.Join(strings.Fields(want), " "), "%s: make told", x.name)
			}
			command := placed.Split(p.command, -1)
			for _, part := range command {
				assert.Contains(t, flat, strings.Join(strings.Fields(part), " "), "%s: make told", x.name)
			}
		}
	}
	if os.Getenv("UNCINATE_TOLD") != "" {
		var b strings.Builder
		b.WriteString("# Stories\n\nEach from empty homes to its end: what is typed, and what was printed. `make test` plays them, and `make told` prints them.\n\n")
		for _, path := range tales(t) {
			x := readTale(t, path)
			fmt.Fprintf(&b, "- [%s](stories/%s.md)\n", x.title, x.name)
		}
		require.NoError(t, os.WriteFile("../docs/stories.md", []byte(b.String()), 0o644))
	}
}
