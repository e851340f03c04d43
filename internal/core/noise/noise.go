// Package noise judges by samples whether the content of a file is noise to a packer: packed or encrypted already, such as
// pictures, sound and archives, so that trying to make it smaller costs time and gains nothing.
package noise

import (
	"compress/flate"
	"math"
)

// Least is the smallest file, in bytes, that is worth a look: below it nothing is gained.
const Least = 24 << 10

// SampleSize is how much is looked at in one place, in bytes.
const SampleSize = 16 << 10

// What a sample of noise has at least: bits of information in a byte, as they are counted one by one, and of its size
// what a quick packer (RFC 1951) leaves.
const (
	leastBits = 7.9
	leastLeft = 0.985
)

// Places are the offsets at which a file of some size is looked at; nil for one that is too small.
func Places(size int64) []int64 {
	if size < Least {
		return nil
	}
	last := size - SampleSize
	if size < 4*SampleSize {
		return []int64{0, last}
	}
	return []int64{0, last / 3, 2 * last / 3, last}
}

// Is reports whether a sample is noise. The first one of a file may hold a header, which counts little in it.
func Is(sample []byte, first bool) bool {
	bits, left := leastBits, leastLeft
	if first {
		bits, left = 7.5, 0.95
	}
	return len(sample) > 0 && entropy(sample) >= bits && packed(sample) >= left
}

// entropy is the information in a byte of a sample, in bits, as if each came by itself (Shannon's H of order zero).
func entropy(sample []byte) float64 {
	var count [256]int
	for _, b := range sample {
		count[b]++
	}
	h := 0.0
	for _, n := range count {
		if n > 0 {
			p := float64(n) / float64(len(sample))
			h -= p * math.Log2(p)
		}
	}
	return h
}

// packed is how much of a sample a quick packer leaves, as a share.
func packed(sample []byte) float64 {
	var n counter
	w, err := flate.NewWriter(&n, flate.BestSpeed)
	if err == nil {
		_, err = w.Write(sample)
	}
	if err != nil || w.Close() != nil {
		return 0
	}
	return float64(n) / float64(len(sample))
}

type counter int

func (c *counter) Write(p []byte) (int, error) { *c += counter(len(p)); return len(p), nil }
