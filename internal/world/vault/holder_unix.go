//go:build linux || darwin

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

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

const modesCount = true

var errNoHolder = errors.New("no process holds the vault")

// message is what goes over the holder's socket, one line of JSON each way.
type message struct {
	Want     string    `json:"want,omitempty"` // "identity" or "end"
	Identity string    `json:"identity,omitempty"`
	Until    time.Time `json:"until,omitzero"`
	Socket   string    `json:"socket,omitempty"`
}

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
	if err := json.NewEncoder(c).Encode(m); err != nil {
		return message{}, err
	}
	var answer message
	err = json.NewDecoder(io.LimitReader(c, 4096)).Decode(&answer)
	return answer, err
}

func askHolder(socket string) (string, time.Time, error) {
	m, err := talk(socket, message{Want: "identity"})
	return m.Identity, m.Until, err
}

func endHolder(socket string) error {
	_, err := talk(socket, message{Want: "end"})
	return err
}

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

// startHolder starts this program again as the holder. The identity goes over a
// pipe, never over arguments or the environment.
func startHolder(program, socket, identity string, until time.Time) error {
	if err := os.MkdirAll(filepath.Dir(socket), 0o700); err != nil {
		return fault.New(fault.Failed, "the folder %s cannot be made", text.Visible(filepath.Dir(socket))).Because(err)
	}
	if err := ownFolder(filepath.Dir(socket)); err != nil {
		return err
	}
	line, err := json.Marshal(message{Identity: identity, Until: until, Socket: socket})
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
	if _, err := in.Write(append(line, '\n')); err != nil {
		return fault.New(fault.Failed, "the process that holds the vault open ended at once").Because(err)
	}
	in.Close()
	for range 100 {
		if _, _, err := askHolder(socket); err == nil {
			return c.Process.Release()
		}
		time.Sleep(20 * time.Millisecond)
	}
	return fault.New(fault.Failed, "the process that holds the vault open does not answer")
}

// Hold is the holder: it reads its task from r, answers this user's processes on
// the socket, and ends when the time is over or it is told to.
func Hold(ctx context.Context, r io.Reader) error {
	var task message
	line, err := bufio.NewReader(io.LimitReader(r, 8192)).ReadBytes('\n')
	if err == nil {
		err = json.Unmarshal(line, &task)
	}
	if err != nil || task.Identity == "" || task.Socket == "" {
		return fault.New(fault.Usage, "\"vault hold\" is started by \"vault unlock\", not by hand")
	}
	if err := ownFolder(filepath.Dir(task.Socket)); err != nil {
		return err
	}
	if err := os.Remove(task.Socket); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	l, err := net.Listen("unix", task.Socket)
	if err != nil {
		return err
	}
	ctx, cancel := context.WithDeadline(ctx, task.Until)
	defer cancel()
	stop := context.AfterFunc(ctx, func() { l.Close() })
	defer stop()
	for {
		c, err := l.Accept()
		if err != nil {
			return nil // closed: the time is over
		}
		end := serve(c.(*net.UnixConn), task)
		c.Close()
		if end {
			return l.Close()
		}
	}
}

func serve(c *net.UnixConn, task message) (end bool) {
	if c.SetDeadline(time.Now().Add(2*time.Second)) != nil || samePerson(c) != nil {
		return false
	}
	var m message
	if json.NewDecoder(io.LimitReader(c, 4096)).Decode(&m) != nil {
		return false
	}
	answer := message{}
	if m.Want == "identity" {
		answer = message{Identity: task.Identity, Until: task.Until}
	}
	// A peer that went away has no use for the answer.
	_ = json.NewEncoder(c).Encode(answer)
	return m.Want == "end"
}

func samePerson(c *net.UnixConn) error {
	uid, err := peer(c)
	if err != nil || uid != os.Getuid() {
		return fault.New(fault.Refused, "the process at the vault's socket belongs to another user")
	}
	return nil
}
