//go:build !portable

package vault

import (
	"math"

	"golang.org/x/sys/unix"
)

// keepToItself lets no other process of this user read the memory of this one, neither alive nor
// as a core file (prctl(2), PR_SET_DUMPABLE), and keeps it off the swap where the system lets it
// (mlockall(2)). Where that cannot be had, the vault is held as well as it can be.
func keepToItself() {
	_ = unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0)
	_ = unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{})
	var may unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_MEMLOCK, &may) == nil && may.Cur == math.MaxUint64 { // under a limit, later memory could not be had at all
		_ = unix.Mlockall(unix.MCL_CURRENT | unix.MCL_FUTURE | unix.MCL_ONFAULT)
	}
}
