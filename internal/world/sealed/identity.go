package sealed

import (
	"crypto/ed25519"
	"crypto/rsa"
	"fmt"

	"filippo.io/age"
	"filippo.io/age/agessh"
)

// identity makes one of an SSH private key that was opened.
func identity(private any) (age.Identity, error) {
	switch k := private.(type) {
	case *ed25519.PrivateKey:
		return agessh.NewEd25519Identity(*k)
	case ed25519.PrivateKey:
		return agessh.NewEd25519Identity(k)
	case *rsa.PrivateKey:
		return agessh.NewRSAIdentity(k)
	}
	return nil, fmt.Errorf("a key of the kind %T", private)
}
