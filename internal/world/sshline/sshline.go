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
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// most is how much of a command's output, in bytes, is read.
const most = 64 << 20

// Line is one connection.
type Line struct{ client *ssh.Client }

// ErrTooMuch says that a command printed more than is read.
var ErrTooMuch = errors.New("too much output")

// Dial opens a connection to an address with its port, as a user, with one private key in
// OpenSSH's form and no other. The host must show a key that stands in the known file
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
	l := &Line{ssh.NewClient(c, channels, requests)}
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
// not end well has printed what it had to say.
func (l *Line) Run(ctx context.Context, command string, environment map[string]string, in []byte) ([]byte, error) {
	s, err := l.client.NewSession()
	if err != nil {
		return nil, err
	}
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		select {
		case <-ctx.Done():
			_ = s.Close() // ends the run below
		case <-ended:
		}
	}()
	defer s.Close()
	for name, value := range environment {
		_ = s.Setenv(name, value) // a server that does not take it is understood without
	}
	s.Stdin = bytes.NewReader(in)
	out := &bounded{}
	s.Stdout, s.Stderr = out, io.Discard
	err = s.Run(command)
	var exit *ssh.ExitError
	var missing *ssh.ExitMissingError
	switch {
	case ctx.Err() != nil:
		return nil, ctx.Err()
	case out.over:
		return nil, ErrTooMuch
	case err != nil && !errors.As(err, &exit) && !errors.As(err, &missing):
		return nil, err
	}
	return out.kept.Bytes(), nil
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
