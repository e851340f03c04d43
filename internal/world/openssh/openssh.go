// Package openssh runs the installed OpenSSH client through its documented interfaces,
// and talks to an ssh-agent by its protocol. It translates; it does not decide. Never
// through a shell; secrets never in arguments or the environment.
package openssh

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshconfig"
	"uncinate/internal/core/sshkey"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// mostOutput is how much of a run's output, in bytes, is read.
const mostOutput = 4 << 20

// Client is the installed client.
type Client struct {
	Path string
	log  *slog.Logger
}

// Installed gives the path of the SSH client.
func Installed() (string, error) { return exec.LookPath("ssh") }

// Find finds the client on the PATH.
func Find(log *slog.Logger) (*Client, error) {
	path, err := exec.LookPath("ssh")
	if err != nil {
		return nil, fault.New(fault.Failed, "the SSH client is not installed, or not on the PATH").Because(err).
			Try("on Debian and its kin", "sudo apt install openssh-client")
	}
	return &Client{Path: path, log: log}, nil
}

// Result is what a run came to.
type Result struct {
	Code int
	Out  []byte
	Errs string // what was said on standard error, cut to its last part
}

// Cmd is one run of the client.
type Cmd struct {
	Args  []string
	In    io.Reader     // nil for nothing
	Env   []string      // beside the process's own
	Limit time.Duration // 40 seconds by default
}

// Run runs the client.
func (c *Client) Run(ctx context.Context, x Cmd) (Result, error) {
	if x.Limit == 0 {
		x.Limit = 40 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, x.Limit)
	defer cancel()
	cmd := exec.CommandContext(ctx, c.Path, x.Args...)
	cmd.Cancel = func() error { return cmd.Process.Signal(os.Interrupt) }
	cmd.WaitDelay = 3 * time.Second
	cmd.Env = childEnvironment(x.Env)
	var out, errs bounded
	cmd.Stdin, cmd.Stdout, cmd.Stderr = x.In, &out, &errs
	began := time.Now()
	err := cmd.Run()
	r := Result{Code: cmd.ProcessState.ExitCode(), Out: out.kept.Bytes(), Errs: last(errs.kept.String(), 4096)}
	if c.log != nil {
		c.log.Debug("ssh", "took", time.Since(began).Round(time.Millisecond), "code", r.Code)
	}
	var exit *exec.ExitError
	switch {
	case ctx.Err() != nil:
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return r, fault.New(fault.Unreachable, "the SSH connection did not come to an end within %s", x.Limit)
		}
		return r, ctx.Err()
	case out.over:
		return r, fault.New(fault.Unreachable, "the SSH server answers with more than %s", text.Size(mostOutput))
	case err != nil && !errors.As(err, &exit):
		return r, fault.New(fault.Failed, "the SSH client cannot be run").Because(err)
	}
	return r, nil
}

// childEnvironment is the process's own without what would let ssh ask someone else.
func childEnvironment(more []string) []string {
	var env []string
	for _, kv := range os.Environ() {
		if name, _, _ := strings.Cut(kv, "="); !strings.HasPrefix(name, "SSH_ASKPASS") && name != "DISPLAY" && name != "LC_ALL" {
			env = append(env, kv)
		}
	}
	return append(append(env, "LC_ALL=C.UTF-8"), more...)
}

func last(s string, most int) string { return s[max(len(s)-most, 0):] }

// bounded holds its buffer by name: an embedded one would be filled by way of its own
// ReadFrom, past the bound.
type bounded struct {
	kept bytes.Buffer
	over bool
}

func (b *bounded) Write(p []byte) (int, error) {
	if b.kept.Len()+len(p) > mostOutput {
		b.over = true
		return 0, errors.New("too much output")
	}
	return b.kept.Write(p)
}

// Target gives the words that name a host, its port and the user there.
func Target(user, host string) []string {
	name, port := sshconfig.SplitPort(host)
	var args []string
	if port != "" {
		args = append(args, "-p", port)
	}
	if user != "" {
		args = append(args, "-l", user)
	}
	return append(args, "--", name)
}

// Settings tells what the client would do for a host (ssh(1), -G): with the person's own
// configuration, or with the file that is given.
func (c *Client) Settings(ctx context.Context, file, user, host string) ([]string, error) {
	args := []string{"-G"}
	if file != "" {
		args = append(args, "-F", file)
	}
	r, err := c.Run(ctx, Cmd{Args: append(args, Target(user, host)...), Limit: 20 * time.Second})
	if err == nil && r.Code != 0 {
		err = fault.New(fault.Decision, "your SSH configuration cannot be read").Detail("ssh says: %s", text.Excerpt(strings.TrimSpace(r.Errs), 300)).
			Try("see where", "ssh -G "+text.Quote(host))
	}
	if err != nil {
		return nil, err
	}
	return strings.Split(strings.TrimSpace(string(r.Out)), "\n"), nil
}

// SignIn signs in with a configuration, runs nothing but what the server does without
// being asked, and tells how that ended. The client ends with Failed for what failed on
// its own side, the sign-in among it (ssh(1), EXIT STATUS). Without env nobody is asked
// for a passphrase.
func (c *Client) SignIn(ctx context.Context, file, user, host string, env []string) (Result, error) {
	args := []string{"-F", file, "-T", "-o", "ConnectTimeout=15", "-o", "LogLevel=ERROR"}
	if len(env) == 0 {
		args = append(args, "-o", "BatchMode=yes")
	}
	return c.Run(ctx, Cmd{Args: append(args, Target(user, host)...), Env: env})
}

// Failed is the exit code of a client that could not connect or sign in.
const Failed = 255

// HostKeys asks a host for the key by which it is known, and signs in nowhere. The
// person's own configuration counts, so that it is reached as it would be. With types
// (such as "ssh-ed25519") a key of each is asked for; those it has not are passed over.
func (c *Client) HostKeys(ctx context.Context, user, host string, types ...string) (keys []sshkey.Public, err error) {
	if len(types) == 0 {
		types = []string{""}
	}
	for _, kind := range types {
		k, e := c.hostKey(ctx, user, host, kind)
		if e != nil {
			err = e
			continue
		}
		keys = append(keys, k)
	}
	if len(keys) > 0 {
		err = nil
	}
	return keys, err
}

// HostKeyTypes are the usual types of host key.
var HostKeyTypes = []string{"ssh-ed25519", "ecdsa-sha2-nistp256", "ssh-rsa"}

func (c *Client) hostKey(ctx context.Context, user, host, kind string) (_ sshkey.Public, err error) {
	dir, err := os.MkdirTemp("", "uncinate-host-keys-")
	if err != nil {
		return sshkey.Public{}, files.NoTemporary(err)
	}
	defer fault.Also(&err, func() error { return os.RemoveAll(dir) })
	found := filepath.Join(dir, "known")
	args := []string{"-T", "-o", "BatchMode=yes", "-o", "StrictHostKeyChecking=accept-new", "-o", "UserKnownHostsFile=" + sshconfig.Quote(found), "-o", "GlobalKnownHostsFile=none",
		"-o", "HashKnownHosts=no", "-o", "PubkeyAuthentication=no", "-o", "PasswordAuthentication=no", "-o", "KbdInteractiveAuthentication=no", "-o", "GSSAPIAuthentication=no",
		"-o", "HostbasedAuthentication=no", "-o", "ControlPath=none", "-o", "ConnectTimeout=15", "-o", "LogLevel=ERROR"}
	switch kind {
	case "":
	case "ssh-rsa": // by its newer signatures (RFC 8332)
		args = append(args, "-o", "HostKeyAlgorithms=rsa-sha2-512,rsa-sha2-256")
	default:
		args = append(args, "-o", "HostKeyAlgorithms="+kind)
	}
	r, err := c.Run(ctx, Cmd{Args: append(args, Target(user, host)...)})
	if err != nil {
		return sshkey.Public{}, err
	}
	data, err := os.ReadFile(found)
	if err != nil {
		return sshkey.Public{}, Unreachable(host, r.Errs)
	}
	for line := range strings.SplitSeq(string(data), "\n") {
		if _, rest, ok := strings.Cut(line, " "); ok {
			if k, err := sshkey.Read(rest); err == nil {
				return k, nil
			}
		}
	}
	return sshkey.Public{}, Unreachable(host, r.Errs)
}

// Unreachable says why a host cannot be reached over SSH, by what the client said.
func Unreachable(host, said string) error {
	said = strings.TrimSpace(said)
	why := "the connection failed"
	for _, known := range [][2]string{{"Host key verification failed", "its SSH key is not one that it is known by"}, {"Connection refused", "nothing listens there (connection refused)"},
		{"Could not resolve hostname", "there is no host of that name"}, {"timed out", "it did not answer in time"}, {"No route to host", "there is no way to it from this network"},
		{"Network is unreachable", "there is no way to it from this network"}, {"banner", "what answers there does not speak SSH"}, {"Connection closed by", "the line was cut"},
		{"Connection reset by", "the line was cut"}} {
		if strings.Contains(said, known[0]) {
			why = known[1]
			break
		}
	}
	f := fault.New(fault.Unreachable, "%s cannot be reached over SSH: %s", text.Visible(host), why)
	if said != "" {
		f.Detail("ssh says: %s", text.Excerpt(said, 300))
	}
	return f
}

// Known tells whether a known_hosts file holds a key of a host, hashed names too
// (ssh-keygen(1), -F).
func Known(ctx context.Context, file, host string) (keys []sshkey.Public, err error) {
	if _, err := os.Stat(file); err != nil {
		return nil, nil
	}
	program, err := exec.LookPath("ssh-keygen")
	if err != nil {
		return nil, fault.New(fault.Failed, "ssh-keygen is not installed, or not on the PATH").Because(err).
			Try("on Debian and its kin", "sudo apt install openssh-client")
	}
	out, err := exec.CommandContext(ctx, program, "-F", sshconfig.KnownHost(host), "-f", file).Output()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return nil, fmt.Errorf("ssh-keygen: %w", err)
	}
	for line := range strings.SplitSeq(string(out), "\n") {
		line = strings.TrimPrefix(line, "@cert-authority ") // who vouches for hosts of that name
		if line == "" || strings.HasPrefix(line, "#") || strings.HasPrefix(line, "@") {
			continue
		}
		if _, rest, ok := strings.Cut(line, " "); ok {
			if k, err := sshkey.Read(rest); err == nil {
				keys = append(keys, k)
			}
		}
	}
	return keys, nil
}
