//go:build !linux && !darwin

package vault

import (
	"context"
	"errors"
	"io"
	"time"

	"uncinate/internal/core/fault"
)

const modesCount = false

var errNoHolder = errors.New("no process holds the vault")

func askHolder(string) (string, time.Time, error) { return "", time.Time{}, errNoHolder }
func endHolder(string) error                      { return errNoHolder }

func startHolder(string, string, string, time.Time) error {
	return fault.New(fault.Failed, "holding the vault open is not supported on this system yet; the passphrase is asked for each time")
}

// Hold is not supported on this system.
func Hold(context.Context, io.Reader) error {
	return fault.New(fault.Failed, "holding the vault open is not supported on this system yet")
}
