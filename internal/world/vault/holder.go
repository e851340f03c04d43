package vault

import (
	"errors"
	"time"
)

var errNoHolder = errors.New("no process holds the vault")

// What a message to the holding process wants.
const (
	wantIdentity = "identity" // tell the identity, if it is held
	wantHold     = "hold"     // hold this identity until a time
	wantLock     = "lock"     // forget the identity
	wantKeep     = "keep"     // hold a secret for one sign-in
	wantSecret   = "secret"   // tell such a secret
	wantDrop     = "drop"     // forget such a secret
	wantEnd      = "end"      // forget all and end
)

// message is what goes over the holder's socket, one line of JSON each way.
type message struct {
	Want     string    `json:"want,omitempty"`
	Identity string    `json:"identity,omitempty"`
	Until    time.Time `json:"until,omitzero"`
	Socket   string    `json:"socket,omitempty"` // where the first task says to listen
	Name     string    `json:"name,omitempty"`
	Secret   string    `json:"secret,omitempty"`
	Leader   int       `json:"leader,omitempty"` // process whose end ends the sign-in; 0 for none
}
