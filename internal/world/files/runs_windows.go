package files

import (
	"os"
	"path/filepath"
	"strings"
)

// Runs reports whether a process of that number runs (OpenProcess function).
func Runs(id int) bool {
	p, err := os.FindProcess(id)
	if err != nil {
		return false
	}
	_ = p.Release() // it is only looked at
	return true
}

// SameDisk reports whether two paths are on one volume.
func SameDisk(a, b string) (bool, error) {
	return strings.EqualFold(filepath.VolumeName(a), filepath.VolumeName(b)), nil
}

// Full knows nothing here.
func Full(string) bool { return false }

// Mine takes what is in this person's own folder for temporary files to be theirs.
func Mine(string) bool { return true }
