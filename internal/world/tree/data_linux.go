package tree

import (
	"io"
	"os"

	"golang.org/x/sys/unix"
)

// Data gives a reader of a file's contents that steps over its holes (lseek(2),
// SEEK_DATA): a sparse file is read only where something was written.
func Data(f *os.File) io.Reader { return &dense{f: f} }

type dense struct {
	f    *os.File
	at   int64
	upTo int64 // where the data that is being read ends
}

func (d *dense) Read(p []byte) (int, error) {
	if d.at >= d.upTo {
		from, err := d.f.Seek(d.at, unix.SEEK_DATA)
		if err != nil {
			return 0, io.EOF // only a hole is left, or nothing
		}
		end, err := d.f.Seek(from, unix.SEEK_HOLE)
		if err != nil {
			return 0, err
		}
		d.at, d.upTo = from, end
	}
	n, err := d.f.ReadAt(p[:min(int64(len(p)), d.upTo-d.at)], d.at)
	d.at += int64(n)
	if n > 0 && err == io.EOF {
		err = nil
	}
	return n, err
}
