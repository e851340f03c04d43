package worktree

import (
	"errors"
	"io/fs"
	"os"
	"runtime"
	"sync"

	"uncinate/internal/world/files"
)

// hasher reads what is aside while more is put aside: most of the time that a writing takes
// goes into either.
type hasher struct {
	digits int
	todo   chan string
	work   sync.WaitGroup
	mu     sync.Mutex
	seen   map[string]lying // by path
}

// lying is what is aside.
type lying struct {
	id   string // of its contents, as they are
	size int64
}

func newHasher(digits int) *hasher {
	h := &hasher{digits: digits, todo: make(chan string, 256), seen: map[string]lying{}}
	for range max(2, runtime.GOMAXPROCS(0)) { // one can wait for the disk while the other counts
		h.work.Go(func() {
			for path := range h.todo {
				x, err := readLying(path, h.digits)
				if err != nil {
					continue // it is read again, and told of, where all that is aside is looked at
				}
				h.mu.Lock()
				h.seen[path] = x
				h.mu.Unlock()
			}
		})
	}
	return h
}

// end waits until all is read.
func (h *hasher) end() {
	close(h.todo)
	h.work.Wait()
}

// at gives what was read, or reads it.
func (h *hasher) at(path string) (lying, error) {
	if x, read := h.seen[path]; read {
		return x, nil
	}
	return readLying(path, h.digits)
}

func readLying(path string, digits int) (lying, error) {
	size, _, err := files.Stamp(path)
	if err != nil {
		return lying{}, err
	}
	id, err := rawID(path, digits)
	if errors.Is(err, fs.ErrPermission) && os.Chmod(path, 0o600) == nil { // one's own, that was not to be read
		id, err = rawID(path, digits)
	}
	return lying{id, size}, err
}
