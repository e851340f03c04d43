package openssh

import (
	"errors"
	"net"
	"os"
	"time"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/sshkey"
)

// Agent is the ssh-agent that SSH_AUTH_SOCK names (draft-ietf-sshm-ssh-agent).
type Agent struct{ socket string }

// ErrNoAgent says that no agent runs for this session.
var ErrNoAgent = errors.New("no SSH agent runs for this session")

// FindAgent finds the session's agent.
func FindAgent() (*Agent, error) {
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return nil, ErrNoAgent
	}
	return &Agent{socket}, nil
}

// with talks to the agent.
func (a *Agent) with(work func(agent.ExtendedAgent) error) error {
	c, err := net.DialTimeout("unix", a.socket, 2*time.Second)
	if err != nil {
		return fault.New(fault.Failed, "the SSH agent that SSH_AUTH_SOCK names does not answer").Because(err).Try("work without it", "unset SSH_AUTH_SOCK")
	}
	defer c.Close()
	if err := c.SetDeadline(time.Now().Add(20 * time.Second)); err != nil {
		return err
	}
	return work(agent.NewClient(c))
}

// Keys lists the public halves that the agent offers.
func (a *Agent) Keys() ([]sshkey.Public, error) {
	var out []sshkey.Public
	err := a.with(func(x agent.ExtendedAgent) error {
		all, err := x.List()
		if err != nil {
			return fault.New(fault.Failed, "the SSH agent refuses to list its keys").Because(err)
		}
		for _, k := range all {
			out = append(out, sshkey.Public{Type: k.Type(), Blob: k.Marshal(), Comment: k.Comment})
		}
		return nil
	})
	return out, err
}

// Add gives the agent a private key for a time; it forgets it by itself then.
func (a *Agent) Add(private []byte, passphrase, comment string, long time.Duration) error {
	var key any
	var err error
	if passphrase == "" {
		key, err = ssh.ParseRawPrivateKey(private)
	} else {
		key, err = ssh.ParseRawPrivateKeyWithPassphrase(private, []byte(passphrase))
	}
	if err != nil {
		return fault.New(fault.Failed, "the private key cannot be opened: its passphrase is another one, or the file is damaged").Because(err)
	}
	return a.with(func(x agent.ExtendedAgent) error {
		if err := x.Add(agent.AddedKey{PrivateKey: key, Comment: comment, LifetimeSecs: uint32(min(long, 1<<31*time.Second) / time.Second)}); err != nil {
			return fault.New(fault.Failed, "the SSH agent refuses the key").Because(err)
		}
		return nil
	})
}

// Remove takes a key out of the agent; one that it has not is fine.
func (a *Agent) Remove(k sshkey.Public) error {
	key, err := ssh.ParsePublicKey(k.Blob)
	if err != nil {
		return err
	}
	return a.with(func(x agent.ExtendedAgent) error {
		has, err := x.List()
		if err != nil {
			return err
		}
		for _, h := range has {
			if string(h.Marshal()) == string(k.Blob) {
				return x.Remove(key)
			}
		}
		return nil
	})
}

// AgentAnswers reports whether the environment names an agent (ssh-agent's page,
// SSH_AUTH_SOCK), and whether something answers there within a second.
func AgentAnswers() (named, answers bool) {
	socket := os.Getenv("SSH_AUTH_SOCK")
	if socket == "" {
		return false, false
	}
	c, err := net.DialTimeout("unix", socket, time.Second)
	if err != nil {
		return true, false
	}
	return true, c.Close() == nil
}
