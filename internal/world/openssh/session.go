package openssh

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"os/exec"
	"sync"
	"time"

	"uncinate/internal/core/fault"
)

// Session is one command that runs on a server and is talked with: scripts go in, and what
// each answers comes out, up to a line that the script ends with. It ends by itself when
// this process does, since its standard input ends then.
type Session struct {
	cmd  *exec.Cmd
	in   io.WriteCloser
	out  *bufio.Reader
	errs *last64
	end  chan struct{}
}

// last64 keeps the last part of what is written to it.
type last64 struct {
	mu   sync.Mutex
	kept []byte
}

func (l *last64) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.kept = append(l.kept, p...)
	if over := len(l.kept) - 64<<10; over > 0 {
		l.kept = l.kept[over:]
	}
	return len(p), nil
}

func (l *last64) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return string(l.kept)
}

// Start starts a session.
func (c *Client) Start(ctx context.Context, x Cmd) (*Session, error) {
	cmd := exec.CommandContext(ctx, c.Path, x.Args...)
	cmd.WaitDelay = time.Second
	cmd.Env = childEnvironment(x.Env)
	s := &Session{cmd: cmd, errs: &last64{}, end: make(chan struct{})}
	cmd.Stderr = s.errs
	var err error
	if s.in, err = cmd.StdinPipe(); err == nil {
		var out io.Reader
		if out, err = cmd.StdoutPipe(); err == nil {
			s.out = bufio.NewReader(out)
			err = cmd.Start()
		}
	}
	if err != nil {
		return nil, fault.New(fault.Failed, "the SSH client cannot be run").Because(err)
	}
	return s, nil
}

// ErrEnded says that a session is over: the line was cut, or it was never let in.
var ErrEnded = errors.New("the SSH session ended")

// Ask sends a script and gives all that comes back up to a line that begins with mark,
// which is given too. The error is ErrEnded when the session ended before that; Said and
// Code tell more then.
func (s *Session) Ask(ctx context.Context, script, mark string, limit time.Duration) (out []byte, line string, err error) {
	type answer struct {
		out  []byte
		line string
		err  error
	}
	got := make(chan answer, 1)
	go func() {
		if _, err := io.WriteString(s.in, script); err != nil {
			got <- answer{err: ErrEnded}
			return
		}
		var b bytes.Buffer
		for {
			part, err := s.out.ReadSlice('\n')
			if bytes.HasPrefix(part, []byte(mark)) && err == nil && (b.Len() == 0 || bytes.HasSuffix(b.Bytes(), []byte("\n"))) {
				got <- answer{b.Bytes(), string(part), nil}
				return
			}
			if b.Len()+len(part) > mostOutput {
				got <- answer{err: fault.New(fault.Unreachable, "the SSH server answers with more than %d bytes", mostOutput)}
				return
			}
			b.Write(part)
			if err != nil && !errors.Is(err, bufio.ErrBufferFull) {
				got <- answer{b.Bytes(), "", ErrEnded}
				return
			}
		}
	}()
	timer := time.NewTimer(limit)
	defer timer.Stop()
	select {
	case a := <-got:
		if errors.Is(a.err, ErrEnded) {
			s.Close()
		}
		return a.out, a.line, a.err
	case <-ctx.Done():
		s.Close()
		return nil, "", ctx.Err()
	case <-timer.C:
		s.Close()
		return nil, "", fault.New(fault.Unreachable, "the SSH server did not answer within %s", limit)
	}
}

// closesWithin is how long a session may take to end when its input does.
const closesWithin = 2 * time.Second

// Said is what the client said on standard error.
func (s *Session) Said() string { return last(s.errs.String(), 4096) }

// Code is the client's exit code, once the session is over.
func (s *Session) Code() int {
	if s.cmd.ProcessState == nil {
		return -1
	}
	return s.cmd.ProcessState.ExitCode()
}

// Close ends the session.
func (s *Session) Close() {
	select {
	case <-s.end:
		return
	default:
	}
	close(s.end)
	_ = s.in.Close() // it may have ended by itself
	over := make(chan struct{})
	go func() {
		_ = s.cmd.Wait() // its exit code is asked for by who wants it
		close(over)
	}()
	select {
	case <-over:
	case <-time.After(closesWithin):
		_ = s.cmd.Process.Kill() // one that does not end with its input is ended
		<-over
	}
}
