//go:build !portable && (linux || darwin)

package vault

import (
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAnEndingHolderIsNone asks a process that ends before it listens.
func TestAnEndingHolderIsNone(t *testing.T) {
	socket := filepath.Join(t.TempDir(), "run", "s")
	require.NoError(t, os.Mkdir(filepath.Dir(socket), 0o700))
	l, err := net.ListenUnix("unix", &net.UnixAddr{Name: socket, Net: "unix"})
	require.NoError(t, err)
	time.AfterFunc(50*time.Millisecond, func() { l.Close() })
	_, err = talk(socket, message{Want: wantHold, Identity: "x"})
	require.ErrorIs(t, err, errNoHolder)
}
