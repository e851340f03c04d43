//go:build !portable && (linux || darwin)

package vault

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"time"

	"golang.org/x/sys/unix"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// mostMessage is the longest message, in bytes, that either side reads.
const mostMessage = 256 << 10

// CanHold reports whether a process can hold the vault open on this system.
const CanHold = true

const modesCount = true

// talk sends one message to the process at the socket and reads its answer.
func talk(socket string, m message) (message, error) {
	if err := ownFolder(filepath.Dir(socket)); err != nil {
		return message{}, err
	}
	c, err := net.DialTimeout("unix", socket, time.Second)
	if err != nil {
		return message{}, errNoHolder
	}
	defer c.Close()
	if err := samePerson(c.(*net.UnixConn)); err != nil {
		return message{}, err
	}
	if err := c.SetDeadline(time.Now().Add(3 * time.Second)); err != nil {
		return message{}, err
	}
	var answer message
	err = json.NewEncoder(c).Encode(m)
	if err == nil {
		err = json.NewDecoder(io.LimitReader(c, mostMessage)).Decode(&answer)
	}
	if errors.Is(err, io.EOF) || errors.Is(err, syscall.ECONNRESET) || errors.Is(err, syscall.EPIPE) {
		return message{}, errNoHolder // it ended before it had listened: what it held was over just then
	}
	return answer, err
}

func askHolder(socket string, m message) (message, error) { return talk(socket, m) }

// ownFolder refuses a folder that is not ours alone. A missing one means no holder.
func ownFolder(path string) error {
	s, err := os.Lstat(path)
	if err != nil {
		return errNoHolder
	}
	st, ok := s.Sys().(*syscall.Stat_t)
	if !s.IsDir() || !ok || int(st.Uid) != os.Getuid() || s.Mode().Perm()&0o077 != 0 {
		return fault.New(fault.Refused, "the folder %s, where the open vault is reached, is not yours alone", text.Visible(path)).
			Try("remove it", text.Command("rm", "-r", "--", path))
	}
	return nil
}

// ownVault refuses a vault in whose folder others may write: they could put another
// in its place.
func ownVault(path string) error {
	s, err := os.Stat(path)
	if err != nil {
		return err
	}
	st, ok := s.Sys().(*syscall.Stat_t)
	switch {
	case !ok || int(st.Uid) != os.Getuid():
		return fault.New(fault.Refused, "the vault's folder %s is not yours", text.Visible(path))
	case s.Mode().Perm()&0o022 != 0:
		return fault.New(fault.Refused, "others may write in the vault's folder %s", text.Visible(path)).
			Try("keep it to yourself", text.Command("chmod", "700", path))
	}
	return nil
}

// sessionLeader is the process whose end ends this terminal session (setsid(2)); 0
// where it is this very process or cannot be told.
func sessionLeader() int {
	leader, err := unix.Getsid(0)
	if err != nil || leader <= 1 || leader == os.Getpid() || !leads(leader) {
		return 0
	}
	return leader
}

// leads reports whether a process is there and leads its session.
func leads(process int) bool {
	session, err := unix.Getsid(process)
	return err == nil && session == process
}

// giveHolder hands something to the holding process, which it starts if there is none.
func giveHolder(ctx context.Context, program, socket string, m message) (err error) {
	if err := os.MkdirAll(filepath.Dir(socket), 0o700); err != nil {
		return fault.New(fault.Failed, "the folder %s cannot be made", text.Visible(filepath.Dir(socket))).Because(err)
	}
	if err := ownFolder(filepath.Dir(socket)); err != nil {
		return err
	}
	held, _, err := files.LockWait(ctx, socket+".lock", 5*time.Second)
	if err != nil {
		return err
	}
	if held == nil {
		return fault.New(fault.Failed, "another process has been starting the one that holds the vault for five seconds; try again")
	}
	defer fault.Also(&err, held.Release)
	if _, err := askHolder(socket, m); !errors.Is(err, errNoHolder) {
		return err
	}
	return startHolder(ctx, program, socket, m)
}

// startHolder starts this program again as the holder. The secret goes over a pipe,
// never over arguments or the environment.
func startHolder(ctx context.Context, program, socket string, m message) error {
	m.Socket = socket
	line, err := json.Marshal(m)
	if err != nil {
		return err
	}
	c := exec.Command(program, "vault", "hold")
	c.Dir = "/"
	c.SysProcAttr = &syscall.SysProcAttr{Setsid: true}
	in, err := c.StdinPipe()
	if err != nil {
		return err
	}
	if err := c.Start(); err != nil {
		return fault.New(fault.Failed, "the process that holds the vault open cannot be started").Because(err)
	}
	_, err = in.Write(append(line, '\n'))
	if err = errors.Join(err, in.Close()); err != nil {
		return fault.New(fault.Failed, "the process that holds the vault open ended at once").Because(err)
	}
	for range 100 {
		if _, err := askHolder(socket, message{Want: wantIdentity}); err == nil {
			return c.Process.Release()
		}
		if err := files.Pause(ctx, 20*time.Millisecond); err != nil {
			return err
		}
	}
	return fault.New(fault.Failed, "the process that holds the vault open does not answer")
}

// holder is what the holding process knows.
type holder struct {
	identity string
	until    time.Time
	inMemory map[string]message
}

// tidy forgets what is over, and tells when to look again; false when nothing is held.
func (h *holder) tidy(now time.Time) (next time.Time, holds bool) {
	next = now.Add(time.Second) // a terminal session's end is only seen by looking
	if h.identity != "" && !now.Before(h.until) {
		h.identity = ""
	}
	if h.identity != "" && h.until.Before(next) {
		next = h.until
	}
	for name, m := range h.inMemory {
		if !now.Before(m.Until) || m.Leader != 0 && !leads(m.Leader) {
			delete(h.inMemory, name)
		}
	}
	return next, h.identity != "" || len(h.inMemory) > 0
}

// take does what a message wants.
func (h *holder) take(m message) (answer message) {
	switch m.Want {
	case wantIdentity:
		return message{Identity: h.identity, Until: h.until}
	case wantHold:
		h.identity, h.until = m.Identity, m.Until
	case wantLock:
		h.identity = ""
	case wantKeep:
		h.inMemory[m.Name] = m
	case wantSecret:
		return message{Secret: h.inMemory[m.Name].Secret}
	case wantDrop:
		delete(h.inMemory, m.Name)
	}
	return message{}
}

// Hold is the holder: it reads its first task from r, answers this user's processes
// on the socket, and ends when all that it holds is over or it is told to.
func Hold(ctx context.Context, r io.Reader) error {
	keepToItself()
	var first message
	line, err := bufio.NewReader(io.LimitReader(r, mostMessage)).ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &first)
	}
	if err != nil || first.Want != wantHold && first.Want != wantKeep || first.Socket == "" {
		return fault.New(fault.Usage, "\"vault hold\" is started by \"vault unlock\", not by hand")
	}
	if err := ownFolder(filepath.Dir(first.Socket)); err != nil {
		return err
	}
	if err := os.Remove(first.Socket); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: first.Socket, Net: "unix"})
	if err != nil {
		return err
	}
	defer l.Close()
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	h := &holder{inMemory: map[string]message{}}
	h.take(first)
	for {
		next, holds := h.tidy(time.Now())
		if !holds {
			return nil
		}
		if err := l.SetDeadline(next); err != nil {
			return nil // closed
		}
		c, err := l.AcceptUnix()
		if errors.Is(err, os.ErrDeadlineExceeded) {
			continue
		}
		if err != nil {
			return nil // closed
		}
		end := h.serve(c)
		c.Close()
		if end {
			return nil
		}
	}
}

func (h *holder) serve(c *net.UnixConn) (end bool) {
	if c.SetDeadline(time.Now().Add(2*time.Second)) != nil || samePerson(c) != nil {
		return false
	}
	var m message
	if json.NewDecoder(io.LimitReader(c, mostMessage)).Decode(&m) != nil {
		return false
	}
	h.tidy(time.Now())
	// A peer that went away has no use for the answer.
	_ = json.NewEncoder(c).Encode(h.take(m))
	return m.Want == wantEnd
}

func samePerson(c *net.UnixConn) error {
	uid, err := peer(c)
	if err != nil || uid != os.Getuid() {
		return fault.New(fault.Refused, "the process at the vault's socket belongs to another user")
	}
	return nil
}
