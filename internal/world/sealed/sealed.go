// Package sealed encrypts a file for somebody, and opens it, in the open format age (the age file encryption
// format, version 1): for a passphrase, for age's own keys, and for SSH keys (ed25519 and RSA).
package sealed

import (
	"bytes"
	"errors"
	"io"
	"strings"

	"filippo.io/age"
	"filippo.io/age/agessh"
	"golang.org/x/crypto/ssh"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// To is somebody for whom a file is sealed.
type To struct {
	recipient age.Recipient
	Says      string // who that is, in words
}

// ByPassphrase is whoever knows a passphrase.
func ByPassphrase(passphrase string) (To, error) {
	r, err := age.NewScryptRecipient(passphrase)
	return To{r, "whoever knows the passphrase"}, err
}

// For reads a recipient: age's own ("age1..."), or an SSH public key as in a file that ends in .pub.
func For(line string) (To, error) {
	line = strings.TrimSpace(line)
	words := strings.Fields(line)
	switch {
	case strings.HasPrefix(line, "age1"):
		r, err := age.ParseX25519Recipient(line)
		if err != nil {
			return To{}, fault.New(fault.Usage, "%s is not a recipient of age", text.Quote(text.Excerpt(line, 80))).Because(err)
		}
		return To{r, "the owner of " + text.Excerpt(line, 20)}, nil
	case strings.Contains(line, "PRIVATE KEY"):
		return To{}, fault.New(fault.Refused, "that is a private key: it stays where it is; name the public half, whose file ends in .pub")
	case len(words) < 2:
		return To{}, fault.New(fault.Usage, "%s is neither a recipient of age (age1...) nor an SSH public key", text.Quote(text.Excerpt(line, 80)))
	case words[0] != "ssh-ed25519" && words[0] != "ssh-rsa":
		return To{}, fault.New(fault.Usage, "a file cannot be sealed for an SSH key of the kind %s: ed25519 and rsa can", text.Quote(text.Excerpt(words[0], 60)))
	}
	r, err := agessh.ParseRecipient(line)
	if err != nil {
		return To{}, fault.New(fault.Usage, "the SSH public key cannot be read").Because(err)
	}
	return To{r, "the owner of the SSH key " + text.Excerpt(strings.Join(words[2:], " "), 60)}, nil
}

// Seal encrypts a text for somebody.
func Seal(plain []byte, to To) ([]byte, error) {
	var out bytes.Buffer
	w, err := age.Encrypt(&out, to.recipient)
	if err == nil {
		_, err = w.Write(plain)
	}
	if err == nil {
		err = w.Close()
	}
	return out.Bytes(), err
}

// mostWork is how much work a passphrase may ask for, as a power of two: some seconds.
const mostWork = 20

// NeedsPassphrase reports whether a file is sealed by a passphrase; it is an error where it is none of age.
func NeedsPassphrase(data []byte) (bool, error) {
	if !bytes.HasPrefix(data, []byte("age-encryption.org/v1\n")) {
		return false, fault.New(fault.Usage, "that is not a file that machine pack made")
	}
	return bytes.Contains(data[:min(len(data), 200)], []byte("\n-> scrypt ")), nil
}

// OpenByPassphrase opens a file; most bounds what is in it, in bytes.
func OpenByPassphrase(data []byte, passphrase string, most int64) ([]byte, error) {
	id, err := age.NewScryptIdentity(passphrase)
	if err != nil {
		return nil, fault.New(fault.Usage, "the passphrase is empty")
	}
	id.SetMaxWorkFactor(mostWork)
	return open(data, id, most, "the passphrase does not open it")
}

// OpenByKey opens a file by a private key: age's own, or one of SSH. passphrase is asked for that of a key
// that has one.
func OpenByKey(data, key []byte, passphrase func() (string, error), most int64) ([]byte, error) {
	if ids, err := age.ParseIdentities(bytes.NewReader(key)); err == nil && len(ids) > 0 {
		return open(data, ids[0], most, "the key does not open it")
	}
	id, err := agessh.ParseIdentity(key)
	var asks *ssh.PassphraseMissingError
	if errors.As(err, &asks) {
		says, e := passphrase()
		if e != nil {
			return nil, e
		}
		private, e := ssh.ParseRawPrivateKeyWithPassphrase(key, []byte(says))
		if e != nil {
			return nil, fault.New(fault.Usage, "the passphrase does not open the key").Because(e)
		}
		id, err = identity(private)
	}
	if err != nil {
		return nil, fault.New(fault.Usage, "the private key cannot be used: it is neither age's own nor an SSH key of ed25519 or rsa").Because(err)
	}
	return open(data, id, most, "the key does not open it")
}

func open(data []byte, id age.Identity, most int64, wrong string) ([]byte, error) {
	r, err := age.Decrypt(bytes.NewReader(data), id)
	if err != nil {
		var none *age.NoIdentityMatchError
		if errors.As(err, &none) {
			return nil, fault.New(fault.Usage, "%s", wrong)
		}
		return nil, fault.New(fault.Refused, "the packed file is damaged, or was changed").Because(err)
	}
	plain, err := io.ReadAll(io.LimitReader(r, most+1))
	if err != nil {
		return nil, fault.New(fault.Refused, "the packed file is damaged, or was changed").Because(err)
	}
	if int64(len(plain)) > most {
		return nil, fault.New(fault.Refused, "the packed file holds more than %s", text.Size(most))
	}
	return plain, nil
}
