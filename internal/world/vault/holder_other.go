//go:build portable || (!linux && !darwin)

package vault

import (
	"context"
	"io"

	"uncinate/internal/core/fault"
)

const modesCount = false

// CanHold reports whether a process can hold the vault open on this system.
const CanHold = false

func askHolder(string, message) (message, error) { return message{}, errNoHolder }

func ownVault(string) error { return nil }

func sessionLeader() int { return 0 }

func giveHolder(context.Context, string, string, message) error {
	return fault.New(fault.Failed, "no process can hold secrets in memory on this system yet; the passphrase is asked for each time")
}

// Hold is not supported on this system.
func Hold(context.Context, io.Reader) error {
	return fault.New(fault.Failed, "holding the vault open is not supported on this system yet")
}
