package git

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os/exec"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"uncinate/internal/core/text"
)

// bounded holds its buffer by name: an embedded one would be filled by way of its own
// ReadFrom, past the bound.
type bounded struct {
	kept bytes.Buffer
	most int
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.kept.Len()+len(p) > b.most {
		b.over = true
		return 0, errors.New("too much output")
	}
	return b.kept.Write(p)
}

// tail keeps the last part of standard error and hands lines on as they come.
type tail struct {
	kept  []byte
	line  []byte
	watch func(string)
	heard atomic.Int64 // when something came last that counts, in nanoseconds since 1970
	until time.Time    // until when what the other side says counts, too
}

// mostTalk is for how long a host may talk, as its own lines on standard error are passed on,
// without anything coming of it.
const mostTalk = 10 * time.Minute

// watchFor ends a run by stop once nothing came for so long; stalled says whether that was so.
func (t *tail) watchFor(long time.Duration, stop func()) (stalled func() bool, done func()) {
	if long == 0 {
		return func() bool { return false }, func() {}
	}
	t.heard.Store(time.Now().UnixNano())
	t.until = time.Now().Add(mostTalk)
	was, over := atomic.Bool{}, make(chan struct{})
	go func() {
		tick := time.NewTicker(min(long/4, time.Second))
		defer tick.Stop()
		for {
			select {
			case <-over:
				return
			case now := <-tick.C:
				if now.Sub(time.Unix(0, t.heard.Load())) > long {
					was.Store(true)
					stop()
					return
				}
			}
		}
	}()
	return was.Load, func() { close(over) }
}

func (t *tail) Write(p []byte) (int, error) {
	t.kept = append(t.kept, p...)
	if over := len(t.kept) - 64<<10; over > 0 {
		t.kept = t.kept[over:]
	}
	if !bytes.HasPrefix(p, []byte("remote:")) || time.Now().Before(t.until) {
		t.heard.Store(time.Now().UnixNano())
	}
	if t.watch == nil {
		return len(p), nil
	}
	for _, c := range p {
		if c == '\n' || c == '\r' {
			if len(t.line) > 0 {
				t.watch(string(t.line))
			}
			t.line = t.line[:0]
		} else if len(t.line) < 4096 {
			t.line = append(t.line, c)
		}
	}
	return len(p), nil
}

func (t *tail) String() string {
	var out []string
	for line := range strings.SplitSeq(strings.ReplaceAll(string(t.kept), "\r", "\n"), "\n") {
		out = append(out, text.Visible(line))
	}
	return strings.TrimSpace(strings.Join(out, "\n"))
}

// Progress is one line of git's progress (git-push documentation, --progress).
type Progress struct {
	What    string // such as "Writing objects"
	Done    int64
	Total   int64
	Percent int
	Size    string // what went over so far, such as "1.20 MiB"; "" where git does not tell
	Speed   string // such as "3.10 MiB/s", "" where git does not tell
}

// percent finds how far git is.
var percent = text.Pattern(`^(?:remote: )?([A-Z][A-Za-z ]+):\s+(\d{1,3})% \((\d+)/(\d+)\)(?:, ([0-9.]+ [A-Za-z]+))?(?: \| ([0-9.]+ [A-Za-z]+/s))?`)

// ParseProgress reads a line of progress.
func ParseProgress(line string) (Progress, bool) {
	m := percent().FindStringSubmatch(line)
	if m == nil {
		return Progress{}, false
	}
	p := Progress{What: m[1], Size: m[5], Speed: m[6]}
	p.Percent, _ = strconv.Atoi(m[2])
	p.Done, _ = strconv.ParseInt(m[3], 10, 64)
	p.Total, _ = strconv.ParseInt(m[4], 10, 64)
	return p, p.Percent <= 100
}

// Object is one object of a repository, as git cat-file gives it.
type Object struct {
	ID, Type string
	Size     int64
	Name     string // what was behind its id, such as a path
}

// Objects hands on each of the objects that ids name, one a line, each with a name behind
// it if there is one (as git rev-list --objects gives them), and a reader of its contents that ends with them (git-cat-file documentation, "BATCH OUTPUT"). What see
// leaves unread is passed over.
func (r *Repo) Objects(ctx context.Context, ids io.Reader, see func(o Object, contents io.Reader) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	args := []string{"cat-file", "--batch=%(objectname) %(objecttype) %(objectsize) %(rest)", "--buffer"}
	if r.GitDir != "" {
		args = append([]string{"--git-dir=" + r.GitDir}, args...)
	}
	cmd := exec.CommandContext(ctx, r.Path, args...)
	cmd.Dir, cmd.Env, cmd.Stdin = r.Dir, environment(Cmd{Config: r.Safe}, false, r.Fetches), ids
	errs := &tail{}
	cmd.Stderr = errs
	cmd.WaitDelay = 5 * time.Second
	out, err := cmd.StdoutPipe()
	if err != nil {
		return err
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	err = eachObject(bufio.NewReaderSize(out, 64<<10), see)
	if err != nil {
		cancel()
	}
	if ended := cmd.Wait(); err == nil && ended != nil {
		err = &Error{Command: "cat-file", Code: cmd.ProcessState.ExitCode(), Says: errs.String(), cause: ended}
	}
	return err
}

func eachObject(in *bufio.Reader, see func(o Object, contents io.Reader) error) error {
	for {
		head, err := in.ReadSlice('\n')
		if err == io.EOF && len(head) == 0 {
			return nil
		}
		if err != nil {
			return err
		}
		fields := strings.SplitN(strings.TrimSuffix(string(head), "\n"), " ", 4)
		if fields[len(fields)-1] == "missing" && len(fields) == 2 {
			continue
		}
		if len(fields) != 4 {
			return fmt.Errorf("git cat-file says %q", text.Excerpt(string(head), 80))
		}
		size, err := strconv.ParseInt(fields[2], 10, 64)
		if err != nil || size < 0 {
			return fmt.Errorf("git cat-file says %q", text.Excerpt(string(head), 80))
		}
		contents := io.LimitReader(in, size)
		if err := see(Object{fields[0], fields[1], size, fields[3]}, contents); err != nil {
			return err
		}
		if _, err := io.Copy(io.Discard, contents); err != nil {
			return err
		}
		if _, err := in.Discard(1); err != nil { // the line end behind it
			return err
		}
	}
}

// Sizes gives the size in bytes of each object, by its id (git-cat-file documentation,
// --batch-check); one that is not there is left out.
func (r *Repo) Sizes(ctx context.Context, ids []string) (map[string]int64, error) {
	out, err := r.Run(ctx, Cmd{Args: []string{"cat-file", "--batch-check=%(objectname) %(objectsize)"}, In: strings.NewReader(strings.Join(ids, "\n") + "\n")})
	if err != nil {
		return nil, Fault(err, "git cannot tell how large files are")
	}
	sizes := map[string]int64{}
	for line := range strings.Lines(string(out)) {
		id, size, _ := strings.Cut(strings.TrimSpace(line), " ")
		if n, err := strconv.ParseInt(size, 10, 64); err == nil {
			sizes[id] = n
		}
	}
	return sizes, nil
}

// Blob reads the contents of an object of at most so many bytes.
func (r *Repo) Blob(ctx context.Context, id string, most int64) (string, error) {
	var b strings.Builder
	err := r.Objects(ctx, strings.NewReader(id+"\n"), func(o Object, contents io.Reader) error {
		if o.Size > most {
			return fmt.Errorf("%s has %d bytes, more than %d", id, o.Size, most)
		}
		_, err := io.Copy(&b, contents)
		return err
	})
	return b.String(), Fault(err, "git cannot read %.10s", id)
}

// Change is the commit that changed a path.
type Change struct {
	Source, Commit, By, Title string // Source is the commit that was named, from which it was reached
	When                      time.Time
}

// mostNamed is how many paths a run of git is given on its command line; of more, all is read.
const mostNamed = 500

// Changed tells which commits changed paths, the newest first; commits are as git-log takes them.
// Nothing is followed by its renames (git-log documentation, --source and --name-only).
func (r *Repo) Changed(ctx context.Context, env, commits, paths []string, see func(path string, c Change)) error {
	args := append([]string{"--literal-pathspecs", "log", "--no-show-signature", "--no-textconv", "--no-ext-diff", "--no-renames", "--source", "-z", "--name-only", "--format=%x02%S%x03%H%x03%an%x03%cI%x03%s"}, commits...)
	args = append(args, "--")
	if len(paths) <= mostNamed {
		args = append(args, paths...)
	}
	out, err := r.Run(ctx, Cmd{Args: args, Env: env})
	if err != nil {
		return Fault(err, "git cannot tell who changed what")
	}
	var now Change
	for _, item := range SplitNUL(out) {
		item = strings.TrimPrefix(item, "\n")
		rest, head := strings.CutPrefix(item, "\x02")
		if !head {
			if item != "" {
				see(item, now)
			}
			continue
		}
		x := strings.SplitN(rest, "\x03", 5)
		if len(x) != 5 {
			return fmt.Errorf("git log says %q", text.Excerpt(item, 80))
		}
		now = Change{Source: x[0], Commit: x[1], By: x[2], Title: x[4]}
		if now.When, err = time.Parse(time.RFC3339, x[3]); err != nil {
			return fmt.Errorf("git log gives the time %q", text.Excerpt(x[3], 80))
		}
	}
	return nil
}
