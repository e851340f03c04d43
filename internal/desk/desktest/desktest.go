// Package desktest gives tests a desk: a home in a temporary folder, a vault without a key,
// and a teller that notes what it is told. Nothing of the person's own is touched.
package desktest

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"path/filepath"
	"testing"
	"testing/fstest"
	"time"

	"uncinate/internal/core/plan"
	"uncinate/internal/desk"
	"uncinate/internal/world/files"
	"uncinate/internal/world/vault"
	"uncinate/internal/world/web"
)

// Told notes what a job tells.
type Told struct {
	Lines []string
	Notes []string
	Slept time.Duration
}

// Step notes a step, and whether it was done already.
func (t *Told) Step(i plan.Item, already bool) {
	t.Lines = append(t.Lines, fmt.Sprintf("%s %v", i.ID, already))
}

// Progress is not noted.
func (t *Told) Progress(string, int64, int64, string) {}

// Note notes a note.
func (t *Told) Note(format string, args ...any) {
	t.Notes = append(t.Notes, fmt.Sprintf(format, args...))
}

// New makes a desk, and gives what it tells.
func New(t *testing.T) (*desk.Desk, *Told) {
	t.Helper()
	top := t.TempDir()
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	tell := &Told{}
	home := files.Home{Config: filepath.Join(top, "config"), State: filepath.Join(top, "state"), Vault: filepath.Join(top, "vault"), Run: filepath.Join(top, "run")}
	return &desk.Desk{Home: home, Vault: vault.At(home.Vault, home.Run, nil), Web: web.New(5*time.Second, "uncinate/test", log), Shipped: fstest.MapFS{},
		Program: "/opt/it's here/uncinate", UserHome: top, Now: time.Now, Tell: tell, Log: log,
		// A pause is noted, and lasts a moment: whoever asks until a server is ready shall not run out of tries before it can be.
		Sleep: func(ctx context.Context, long time.Duration) error {
			tell.Slept += long
			return files.Pause(ctx, min(long, time.Millisecond))
		}}, tell
}
