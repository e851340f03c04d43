//go:build portable || !unix

package files

import (
	"errors"
	"os"
	"sync"

	"github.com/gofrs/flock"
)

var (
	takenMu sync.Mutex
	taken   = map[*os.File]*flock.Flock{}
)

// whoHolds is where the number of the process is that holds a lock: beside it, since what is locked
// cannot be read by others on every system.
func whoHolds(path string) string { return path + ".who" }

// hold takes a lock that ends with this process.
func hold(path string) (*os.File, bool, error) {
	l := flock.New(path)
	ok, err := l.TryLock()
	if err != nil || !ok {
		return nil, false, err
	}
	f, err := os.OpenFile(whoHolds(path), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, false, errors.Join(err, l.Unlock())
	}
	takenMu.Lock()
	defer takenMu.Unlock()
	taken[f] = l
	return f, true, nil
}

func letGo(f *os.File) error {
	takenMu.Lock()
	l := taken[f]
	delete(taken, f)
	takenMu.Unlock()
	if l == nil {
		return f.Close()
	}
	return errors.Join(f.Close(), l.Unlock())
}
