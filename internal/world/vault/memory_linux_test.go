//go:build !portable

package vault

import (
	"os"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestKeepsToItself asks the system, in a process of its own, whether that may still be read or
// leave a core file.
func TestKeepsToItself(t *testing.T) {
	if os.Getenv("UNCINATE_KEEPS_TO_ITSELF") == "" {
		c := exec.Command(os.Args[0], "-test.run", "^TestKeepsToItself$")
		c.Env = append(os.Environ(), "UNCINATE_KEEPS_TO_ITSELF=yes")
		out, err := c.CombinedOutput()
		require.NoError(t, err, string(out))
		return
	}
	before, err := unix.PrctlRetInt(unix.PR_GET_DUMPABLE, 0, 0, 0, 0)
	require.NoError(t, err)
	require.Equal(t, 1, before, "it could be read before, so this test can fail")
	keepToItself()
	after, err := unix.PrctlRetInt(unix.PR_GET_DUMPABLE, 0, 0, 0, 0)
	require.NoError(t, err)
	assert.Zero(t, after)
	var core unix.Rlimit
	require.NoError(t, unix.Getrlimit(unix.RLIMIT_CORE, &core))
	assert.Zero(t, core.Cur)
}
