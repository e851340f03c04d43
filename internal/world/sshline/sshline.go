// Package sshline speaks SSH itself, over one connection and several channels (RFC 4254),
// where hundreds of short commands are to be run on a host whose way is plain: a process
// of the SSH client for each would cost more than all else. It knows nothing of the
// person's SSH configuration; who asks has made sure that none is needed.
package sshline

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"sync/atomic"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// most is how much of a command's output, in bytes, is read.
const most = 64 << 20

// Channels is how many commands run side by side; OpenSSH's server takes no more unless told
// otherwise (sshd_config(5), MaxSessions).
const Channels = 10

// longest is how long a command may take.
const longest = 2 * time.Minute

// errSilent says that one took longer.
var errSilent = errors.New("the host does not go on")

// Line is one connection.
type Line struct {
	client *ssh.Client
	room   chan struct{} // one for each channel that may be opened still
	rooms  atomic.Int32  // those, and the ones that are open
	runs   atomic.Bool   // the host has run a command
}

// ErrTooMuch says that a command printed more than is read.
var ErrTooMuch = errors.New("too much output")

// Dial opens a connection to an address with its port, as a user, with one private key in
// OpenSSH's form and no other. The host must show a key that is in the known file
// (sshd(8), SSH_KNOWN_HOSTS FILE FORMAT).
func Dial(ctx context.Context, at, user string, private []byte, passphrase, known string, limit time.Duration) (*Line, error) {
	var signer ssh.Signer
	var err error
	if passphrase == "" {
		signer, err = ssh.ParsePrivateKey(private)
	} else {
		signer, err = ssh.ParsePrivateKeyWithPassphrase(private, []byte(passphrase))
	}
	if err != nil {
		return nil, err
	}
	check, err := knownhosts.New(known)
	if err != nil {
		return nil, err
	}
	config := &ssh.ClientConfig{User: user, Auth: []ssh.AuthMethod{ssh.PublicKeys(signer)}, HostKeyCallback: check, HostKeyAlgorithms: sorts(check, at), Timeout: limit}
	dialer := net.Dialer{Timeout: limit}
	conn, err := dialer.DialContext(ctx, "tcp", at)
	if err != nil {
		return nil, err
	}
	if err := conn.SetDeadline(time.Now().Add(limit)); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	c, channels, requests, err := ssh.NewClientConn(conn, at, config)
	if err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	l := &Line{client: ssh.NewClient(c, channels, requests), room: make(chan struct{}, Channels)}
	l.rooms.Add(1)
	l.leave()
	return l, conn.SetDeadline(time.Time{})
}

// sorts lists the sorts of keys by which a host is known: it is to show one of these.
func sorts(check ssh.HostKeyCallback, at string) []string {
	var odd *knownhosts.KeyError
	if !errors.As(check(at, &net.TCPAddr{IP: net.IPv4zero}, nobodys{}), &odd) {
		return nil
	}
	var out []string
	for _, k := range odd.Want {
		sort := k.Key.Type()
		if sort == ssh.KeyAlgoRSA { // an RSA key signs in newer ways (RFC 8332)
			out = append(out, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		}
		out = append(out, sort)
	}
	return out
}

// nobodys is a key that no host has.
type nobodys struct{}

func (nobodys) Type() string                            { return "none" }
func (nobodys) Marshal() []byte                         { return []byte("none") }
func (nobodys) Verify(_ []byte, _ *ssh.Signature) error { return errors.New("no key") }

// Run runs a command on a channel of its own, and gives what it printed; a command that did
// not end well has printed what it had to say. The first one waits until the host has agreed
// to run it; those that follow send all that they have to say at once (RFC 4254, 6.5), so
// that each takes two journeys there and back: one for the channel, and one for the answer.
func (l *Line) Run(ctx context.Context, command string, environment map[string]string, in []byte) ([]byte, error) {
	ctx, cancel := context.WithTimeoutCause(ctx, longest, errSilent)
	defer cancel()
	c, requests, err := l.channel(ctx)
	if err != nil {
		return nil, err
	}
	defer l.leave()
	defer c.Close()
	ended := make(chan struct{})
	go func() {
		ssh.DiscardRequests(requests) // how it ended is not asked for
		close(ended)
	}()
	defer context.AfterFunc(ctx, func() { _ = c.Close() })()
	out := &bounded{}
	err = l.talk(c, command, environment, in, out)
	switch {
	case ctx.Err() != nil:
		return nil, context.Cause(ctx)
	case out.over:
		return nil, ErrTooMuch
	case err != nil:
		return nil, err
	}
	select { // until the host has closed the channel too, it counts there
	case <-ended:
	case <-time.After(time.Second):
	}
	return out.kept.Bytes(), nil
}

// talk says what is to be run, and reads what comes of it.
func (l *Line) talk(c ssh.Channel, command string, environment map[string]string, in []byte, out io.Writer) error {
	for name, value := range environment { // a server that does not take it is understood without
		if _, err := c.SendRequest("env", false, ssh.Marshal(struct{ Name, Value string }{name, value})); err != nil {
			return err
		}
	}
	runs := l.runs.Load()
	agreed, err := c.SendRequest("exec", !runs, ssh.Marshal(struct{ Command string }{command}))
	switch {
	case err != nil:
		return err
	case !runs && !agreed:
		return errors.New("the host runs no command")
	}
	if l.runs.CompareAndSwap(false, true) {
		l.grow()
	}
	if _, err := c.Write(in); err != nil && !errors.Is(err, io.EOF) { // it may have ended without reading
		return err
	}
	_ = c.CloseWrite() // the same
	go func() { _, _ = io.Copy(io.Discard, c.Stderr()) }()
	_, err = io.Copy(out, c)
	return err
}

// channel opens a channel, once there is room for one more: for one alone until the first
// command has run, then for as many as are usual. Where the host refuses one, there is room
// for one fewer from then on; the last waits a little.
func (l *Line) channel(ctx context.Context) (ssh.Channel, <-chan *ssh.Request, error) {
	select {
	case <-l.room:
	case <-ctx.Done():
		return nil, nil, context.Cause(ctx)
	}
	for wait := 10 * time.Millisecond; ; {
		c, requests, err := l.client.OpenChannel("session", nil)
		var refused *ssh.OpenChannelError
		switch {
		case err == nil:
			return c, requests, nil
		case !errors.As(err, &refused) || wait > time.Second:
			l.leave()
			return nil, nil, err
		case l.rooms.Add(-1) > 0:
			return l.channel(ctx)
		}
		l.rooms.Add(1)
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			l.leave()
			return nil, nil, context.Cause(ctx)
		}
		wait *= 2
	}
}

func (l *Line) leave() { l.room <- struct{}{} }

// grow makes room for as many channels as are usual.
func (l *Line) grow() {
	for range Channels - 1 {
		l.rooms.Add(1)
		l.leave()
	}
}

// Close ends the connection.
func (l *Line) Close() error { return l.client.Close() }

type bounded struct {
	kept bytes.Buffer
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.kept.Len()+len(p) > most {
		b.over = true
		return 0, ErrTooMuch
	}
	return b.kept.Write(p)
}
