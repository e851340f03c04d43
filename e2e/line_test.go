package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/world/sshline"
)

// TestOneConnectionToOpenSSH runs many commands over one connection to OpenSSH's own server,
// as many at a time as it takes, and as few as one that was told to take fewer.
func TestOneConnectionToOpenSSH(t *testing.T) {
	t.Parallel()
	for _, sessions := range []int{1, 3, 10} {
		s := newPlainSSH(t, fmt.Sprint("MaxSessions ", sessions), "AcceptEnv GIT_PROTOCOL")
		require.NoError(t, exec.Command("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", filepath.Join(s.dir, "own")).Run())
		require.NoError(t, os.WriteFile(filepath.Join(s.dir, "authorized_keys"), []byte(s.read("own.pub")), 0o600))
		known := filepath.Join(s.dir, "known_hosts")
		require.NoError(t, os.WriteFile(known, []byte("[127.0.0.1]:"+s.port+" "+s.read("host_key.pub")), 0o600))
		me, err := user.Current()
		require.NoError(t, err)
		l, err := sshline.Dial(t.Context(), "127.0.0.1:"+s.port, me.Username, []byte(s.read("own")), "", known, 10*time.Second)
		require.NoError(t, err)
		var work sync.WaitGroup
		for i := range 30 {
			work.Go(func() {
				out, err := l.Run(t.Context(), fmt.Sprintf("echo %d $GIT_PROTOCOL; cat; echo not told >&2; exit 3", i), map[string]string{"GIT_PROTOCOL": "version=2"}, []byte("in\n"))
				assert.NoError(t, err, "%d sessions", sessions)
				assert.Equal(t, fmt.Sprintf("%d version=2\nin\n", i), string(out))
			})
		}
		work.Wait()
		require.NoError(t, l.Close())
	}
}
