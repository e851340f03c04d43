// Package sshkey computes with SSH keys: it makes pairs in OpenSSH's own format
// (PROTOCOL.key in OpenSSH's source), reads public halves as they are in an
// authorized_keys file (sshd(8)), gives fingerprints (RFC 4716, section 4, by SHA-256),
// and names keys by the account and the machine that they belong to.
package sshkey

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/ed25519"
	"crypto/elliptic"
	"crypto/rsa"
	"encoding/pem"
	"errors"
	"io"
	"strings"

	"golang.org/x/crypto/ssh"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Longest is the longest public line, in bytes, that is read.
const Longest = 16 << 10

// Kinds are the kinds of key that are made, the usual one first.
var Kinds = []string{"ed25519", "ecdsa", "rsa"}

// Public is the public half of a key.
type Public struct {
	Type    string // such as "ssh-ed25519" (RFC 8709)
	Blob    []byte // RFC 4253, section 6.6
	Comment string
}

// Read reads a public half from one line of an authorized_keys file or a .pub file.
// The error is a fault of kind Usage.
func Read(line string) (Public, error) {
	line = strings.TrimSpace(line)
	if len(line) > Longest {
		return Public{}, fault.New(fault.Usage, "the public key is longer than %d bytes", Longest)
	}
	if strings.Contains(line, "PRIVATE KEY") {
		return Public{}, fault.New(fault.Usage, "this is a private key; only its public half is wanted, and the private one stays where it is")
	}
	key, comment, options, rest, err := ssh.ParseAuthorizedKey([]byte(line))
	if err != nil || len(rest) > 0 || len(options) > 0 || strings.ContainsAny(line, "\n\r\x00") {
		return Public{}, fault.New(fault.Usage, "this is not a public key: one looks like \"ssh-ed25519 AAAA... comment\"")
	}
	return Public{Type: key.Type(), Blob: key.Marshal(), Comment: comment}, nil
}

// Line is the key as it is in a .pub file, without a line end.
func (p Public) Line() string {
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return ""
	}
	line := strings.TrimSpace(string(ssh.MarshalAuthorizedKey(key)))
	if p.Comment != "" {
		line += " " + p.Comment
	}
	return line
}

// Fingerprint is "SHA256:" and the hash in base64 without padding, as ssh-keygen -l shows it.
func (p Public) Fingerprint() string {
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return ""
	}
	return ssh.FingerprintSHA256(key)
}

// Same reports whether two are one key, whatever their comments.
func (p Public) Same(q Public) bool { return len(p.Blob) > 0 && bytes.Equal(p.Blob, q.Blob) }

// Hardware reports whether the private half is in a security key.
func (p Public) Hardware() bool { return strings.HasPrefix(p.Type, "sk-") }

// Weak says why a key should no longer be used, "" for a good one.
func (p Public) Weak() string {
	key, err := ssh.ParsePublicKey(p.Blob)
	if err != nil {
		return "it cannot be read"
	}
	c, ok := key.(ssh.CryptoPublicKey)
	if !ok {
		return ""
	}
	if r, ok := c.CryptoPublicKey().(*rsa.PublicKey); ok && r.N.BitLen() < 3072 {
		return "RSA of less than 3072 bits"
	}
	if p.Type == "ssh-dss" { // RFC 4253, section 6.6
		return "DSA, which hosts take no more"
	}
	return ""
}

// Make makes a new pair. private is the PEM of OpenSSH's format, encrypted if there is
// a passphrase; nothing of it is kept.
func Make(kind, comment, passphrase string, random io.Reader) (private []byte, public Public, err error) {
	var key crypto.Signer
	switch kind {
	case "ed25519":
		_, key, err = ed25519.GenerateKey(random)
	case "ecdsa":
		key, err = ecdsa.GenerateKey(elliptic.P256(), random)
	case "rsa":
		key, err = rsa.GenerateKey(random, 3072)
	default:
		f := fault.New(fault.Usage, "a key is of one of the kinds %s, not %s", strings.Join(Kinds, ", "), text.Quote(kind))
		if near := text.Nearest(kind, Kinds); near != "" {
			f.Detail("Did you mean %s?", near)
		}
		return nil, Public{}, f
	}
	if err != nil {
		return nil, Public{}, err
	}
	var block *pem.Block
	if passphrase == "" {
		block, err = ssh.MarshalPrivateKey(key, comment)
	} else {
		block, err = ssh.MarshalPrivateKeyWithPassphrase(key, comment, []byte(passphrase))
	}
	if err != nil {
		return nil, Public{}, err
	}
	half, err := ssh.NewPublicKey(key.Public())
	if err != nil {
		return nil, Public{}, err
	}
	return pem.EncodeToMemory(block), Public{Type: half.Type(), Blob: half.Marshal(), Comment: comment}, nil
}

// Protected reports whether a private half is encrypted with a passphrase.
func Protected(private []byte) bool {
	_, err := ssh.ParseRawPrivateKey(private)
	var missing *ssh.PassphraseMissingError
	return errors.As(err, &missing)
}

// Half is the public half of a private key, also of one with a passphrase where its form tells it (the form of
// OpenSSH does).
func Half(private []byte) (Public, error) {
	signer, err := ssh.ParsePrivateKey(private)
	var missing *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &missing) && missing.PublicKey != nil:
		return Public{Type: missing.PublicKey.Type(), Blob: missing.PublicKey.Marshal()}, nil
	case err != nil:
		return Public{}, err
	}
	return Public{Type: signer.PublicKey().Type(), Blob: signer.PublicKey().Marshal()}, nil
}

// Name is what a key is called in its comment and on the host: whose it is and on
// which machine it is.
func Name(account, host, machine string) string {
	if host == "" {
		return account + ", machine " + machine
	}
	return account + " on " + host + ", machine " + machine
}

// MachineOf reads the machine out of a key's name; "" for a name that was not made here.
func MachineOf(name string) string {
	_, machine, found := strings.Cut(name, ", machine ")
	if !found || CheckMachine(machine) != nil {
		return ""
	}
	return machine
}

// CheckMachine says what is wrong with a machine's name.
func CheckMachine(name string) error {
	if name == "" || len(name) > 60 || name[0] == '-' || name[0] == '.' ||
		strings.Trim(strings.ToLower(name), "abcdefghijklmnopqrstuvwxyz0123456789-_.") != "" {
		return fault.New(fault.Usage, "a machine's name is made of letters, digits, '-', '_' and '.', and %s is not", text.Quote(name))
	}
	return nil
}
