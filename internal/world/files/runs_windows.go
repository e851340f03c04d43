package files

import "os"

// Runs reports whether a process of that number runs (OpenProcess function).
func Runs(id int) bool {
	p, err := os.FindProcess(id)
	if err != nil {
		return false
	}
	_ = p.Release() // it is only looked at
	return true
}
