package practice

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/ssh"
)

// A practice host speaks SSH (RFC 4253, RFC 4254) on the same port as HTTP: who opens a
// connection by the words "SSH-", or says nothing and waits for the server's (RFC 4253,
// 4.2), is served here.

// sshServer serves git over SSH to whose public key the host knows.
type sshServer struct {
	*engine
	faults *Faults
	signer ssh.Signer

	mu   sync.Mutex
	log  []string // what was offered and done, in order
	open map[net.Conn]bool
}

// hostKey gives the host's own key: the one in its folder, or a new one.
func hostKey(dir string) (ssh.Signer, error) {
	path := filepath.Join(dir, "ssh_host_key")
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		_, private, e := ed25519.GenerateKey(rand.Reader)
		if e != nil {
			return nil, e
		}
		block, e := ssh.MarshalPrivateKey(private, "a practice host")
		if e != nil {
			return nil, e
		}
		data = pem.EncodeToMemory(block)
		err = os.WriteFile(path, data, 0o600)
	}
	if err != nil {
		return nil, err
	}
	return ssh.ParsePrivateKey(data)
}

func newSSH(e *engine, dir string, faults *Faults) (*sshServer, error) {
	signer, err := hostKey(dir)
	return &sshServer{engine: e, faults: faults, signer: signer, open: map[net.Conn]bool{}}, err
}

func (s *sshServer) note(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.log = append(s.log, fmt.Sprintf(format, args...))
}

// config lets in whom a key of the store belongs to. Every key that is offered is noted.
func (s *sshServer) config() *ssh.ServerConfig {
	c := &ssh.ServerConfig{ServerVersion: "SSH-2.0-" + s.name + "_practice",
		PublicKeyCallback: func(m ssh.ConnMetadata, key ssh.PublicKey) (*ssh.Permissions, error) {
			k := s.store.KeyOf(key.Marshal())
			s.note("offered %s", ssh.FingerprintSHA256(key))
			if k == nil || m.User() != "git" {
				return nil, errors.New("nobody's key")
			}
			return &ssh.Permissions{Extensions: map[string]string{"key": k.ID, "print": ssh.FingerprintSHA256(key)}}, nil
		}}
	c.AddHostKey(s.signer)
	return c
}

// serve serves one connection to its end.
func (s *sshServer) serve(raw net.Conn) {
	s.mu.Lock()
	s.open[raw] = true
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.open, raw)
		s.mu.Unlock()
		raw.Close()
	}()
	conn, channels, requests, err := ssh.NewServerConn(raw, s.config())
	if err != nil {
		return // who could not sign in was told so
	}
	go ssh.DiscardRequests(requests)
	var all sync.WaitGroup
	for c := range channels {
		if c.ChannelType() != "session" {
			_ = c.Reject(ssh.UnknownChannelType, "only sessions are served here") // the caller may be gone
			continue
		}
		channel, asked, err := c.Accept()
		if err != nil {
			break
		}
		all.Go(func() { s.session(conn, channel, asked) })
	}
	all.Wait()
}

func (s *sshServer) session(conn *ssh.ServerConn, channel ssh.Channel, asked <-chan *ssh.Request) {
	defer channel.Close()
	protocol := ""
	for q := range asked {
		var one struct{ Text string }
		var env struct{ Name, Value string }
		code := uint32(0)
		switch q.Type {
		case "env": // RFC 4254, 6.4
			if ssh.Unmarshal(q.Payload, &env) == nil && env.Name == "GIT_PROTOCOL" {
				protocol = env.Value
			}
			_ = q.Reply(true, nil)
			continue
		case "exec": // RFC 4254, 6.5
			if ssh.Unmarshal(q.Payload, &one) != nil {
				_ = q.Reply(false, nil)
				return
			}
			_ = q.Reply(true, nil)
			code = s.exec(conn, channel, one.Text, protocol)
		case "shell":
			_ = q.Reply(true, nil)
			fmt.Fprintf(channel, "Signed in on %s with a key; there is no shell here.\n", s.name)
		default:
			_ = q.Reply(false, nil)
			continue
		}
		_, _ = channel.SendRequest("exit-status", false, ssh.Marshal(struct{ Code uint32 }{code})) // RFC 4254, 6.10
		return
	}
}

// gitWords takes a command as git sends it apart: a program's name and one path in
// single quotes (git's sq_quote: a quote or an exclamation mark is outside them,
// behind a backslash).
func gitWords(line string) (name, path string, ok bool) {
	name, rest, found := strings.Cut(line, " ")
	if !found || name != "git-upload-pack" && name != "git-receive-pack" {
		return "", "", false
	}
	var out strings.Builder
	quoted := false
	for i := 0; i < len(rest); i++ {
		switch c := rest[i]; {
		case c == '\'':
			quoted = !quoted
		case quoted:
			out.WriteByte(c)
		case c == '\\' && i+1 < len(rest) && (rest[i+1] == '\'' || rest[i+1] == '!'):
			i++
			out.WriteByte(rest[i])
		default:
			return "", "", false
		}
	}
	return name, out.String(), !quoted
}

// asked finds the repository that a key asks for; no says why it may not.
func (s *sshServer) asked(key *Key, path string, sends bool) (owner, name string, r *Repo, no string) {
	owner, name, found := cutLast(strings.TrimSuffix(strings.Trim(path, "/"), ".git"))
	err := error(nil)
	if key != nil && found {
		r, err = s.store.forKey(key, owner, name)
	}
	switch {
	case r == nil || err != nil:
		no = "there is no such repository, or you may not see it"
	case sends && !s.store.mayWrite(key, r):
		no = "you may only read this repository"
	case sends && r.Archived:
		no = "this repository is archived: it may only be read"
	}
	return owner, name, r, no
}

// exec does what git asks, as the key's owner may, and gives the exit code.
func (s *sshServer) exec(conn *ssh.ServerConn, channel ssh.Channel, line, protocol string) uint32 {
	refuse := func(says string) uint32 {
		fmt.Fprintf(channel.Stderr(), "%s: %s\n", s.name, says)
		return 1
	}
	name, path, ok := gitWords(line)
	if !ok {
		return refuse("only git is served here")
	}
	key := s.store.KeyByID(conn.Permissions.Extensions["key"])
	owner, repository, r, no := s.asked(key, path, name == "git-receive-pack")
	if no != "" {
		return refuse(no)
	}
	who := key.User
	if key.Repo != "" {
		who = "deploy key " + key.Title
	}
	s.note("%s %s/%s by %s with %s", name, owner, repository, who, conn.Permissions.Extensions["print"])
	if err := s.store.used(key.ID); err != nil {
		return refuse("the host's own state cannot be written")
	}
	fault := s.faults.next(&http.Request{Method: "SSH", URL: &url.URL{Path: "/" + owner + "/" + repository}})
	out := io.Writer(channel)
	if fault != nil {
		switch fault.Kind {
		case "fail", "rate-limit":
			return refuse(fault.Text)
		case "cut":
			conn.Close()
			return 1
		case "delay", "late":
			time.Sleep(fault.Time)
		case "lose":
			defer conn.Close()
			if name == "git-receive-pack" {
				out = &lastLost{w: channel}
			}
		}
	}
	if name == "git-receive-pack" {
		defer s.store.rings(s.name, r.ID)()
	}
	ctx, cancel := context.WithCancel(context.Background())
	defer cancel()
	c := gitCommand(ctx, strings.TrimPrefix(name, "git-"), s.store.GitDir(r.ID))
	c.Env = append(c.Env, "GIT_PROTOCOL="+protocol, "GUARDS="+s.store.guards(r, who))
	c.Stdout, c.Stderr = out, channel.Stderr()
	in, err := c.StdinPipe()
	if err == nil {
		go func() {
			_, _ = io.Copy(in, channel) // it ends with either side
			in.Close()
		}()
		err = c.Run()
	}
	var exit *exec.ExitError
	if errors.As(err, &exit) {
		return uint32(exit.ExitCode())
	}
	if err != nil {
		return refuse("git cannot be started")
	}
	return 0
}

// lastLost hands on what a server says first, and loses what it says when its work is
// done: everything behind the first flush (gitprotocol-common).
type lastLost struct {
	w     io.Writer
	after bool
}

func (l *lastLost) Write(p []byte) (int, error) {
	if l.after {
		return len(p), nil
	}
	l.after = bytes.HasSuffix(p, []byte("0000"))
	return l.w.Write(p)
}

// split gives HTTP's connections to one listener and serves the others.
type split struct {
	net.Listener
	ssh   *sshServer
	conns chan net.Conn
	ended chan struct{}
	err   error
}

func newSplit(l net.Listener, s *sshServer) *split {
	x := &split{Listener: l, ssh: s, conns: make(chan net.Conn), ended: make(chan struct{})}
	go func() {
		defer close(x.ended)
		for {
			c, err := l.Accept()
			if err != nil {
				x.err = err
				return
			}
			go x.sort(c)
		}
	}()
	return x
}

// sort finds out which of the two a connection speaks.
func (x *split) sort(c net.Conn) {
	p := &peeked{Conn: c, r: bufio.NewReader(c)}
	// Programs for SSH that wait until the server speaks are few; a busy machine's HTTP may well take a second to begin. A closed
	// connection fails below.
	_ = c.SetReadDeadline(time.Now().Add(3 * time.Second))
	begins, err := p.r.Peek(4)
	_ = c.SetReadDeadline(time.Time{})
	if timeout := (net.Error)(nil); string(begins) == "SSH-" || errors.As(err, &timeout) && timeout.Timeout() && len(begins) == 0 {
		x.ssh.serve(p)
		return
	}
	select {
	case x.conns <- p:
	case <-x.ended:
		c.Close()
	}
}

func (x *split) Accept() (net.Conn, error) {
	select {
	case c := <-x.conns:
		return c, nil
	case <-x.ended:
		return nil, x.err
	}
}

// closeAll ends the SSH connections that are open.
func (s *sshServer) closeAll() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.open {
		c.Close()
	}
}

// peeked is a connection whose first bytes were looked at.
type peeked struct {
	net.Conn
	r *bufio.Reader
}

func (p *peeked) Read(b []byte) (int, error) { return p.r.Read(b) }

// SSHLog tells which keys were offered, and what was done with which, in order.
func (r *Running) SSHLog() []string {
	r.ssh.mu.Lock()
	defer r.ssh.mu.Unlock()
	return slices.Clone(r.ssh.log)
}

// publicLine is the host's own key, as in an authorized_keys file (sshd(8)).
func (s *sshServer) publicLine() string {
	return strings.TrimSpace(string(ssh.MarshalAuthorizedKey(s.signer.PublicKey())))
}

// HostKey is the fingerprint of the host's SSH key.
func (r *Running) HostKey() string { return ssh.FingerprintSHA256(r.ssh.signer.PublicKey()) }

// HostKeyLine is that key, as it is in a file of known hosts behind the name.
func (r *Running) HostKeyLine() string { return r.ssh.publicLine() }
