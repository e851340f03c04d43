//go:build !unix

package files

import (
	"os"

	"github.com/gofrs/flock"
)

var taken = map[*os.File]*flock.Flock{}

// hold takes a lock that ends with this process.
func hold(path string) (*os.File, bool, error) {
	l := flock.New(path)
	ok, err := l.TryLock()
	if err != nil || !ok {
		return nil, false, err
	}
	f, err := os.OpenFile(path+".who", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, false, err
	}
	taken[f] = l
	return f, true, nil
}

func letGo(f *os.File) error {
	l := taken[f]
	delete(taken, f)
	f.Close()
	return l.Unlock()
}
