// Package semver reads and compares version numbers (Semantic Versioning 2.0.0, items 2,
// 9, 10 and 11), with the "v" that many put before them.
package semver

import (
	"cmp"
	"strconv"
	"strings"
)

// Version is one that was read.
type Version struct {
	Numbers [3]uint64
	Before  []string // the identifiers of a version before the proper one
}

// Parse reads a version, with or without a leading v; false where it is none.
func Parse(s string) (Version, bool) {
	var v Version
	s = strings.TrimPrefix(s, "v")
	s, build, has := strings.Cut(s, "+")
	if has && !identifiers(build, false) {
		return v, false
	}
	s, before, has := strings.Cut(s, "-")
	if has {
		if !identifiers(before, true) {
			return v, false
		}
		v.Before = strings.Split(before, ".")
	}
	parts := strings.Split(s, ".")
	if len(parts) != 3 {
		return v, false
	}
	for i, p := range parts {
		n, err := strconv.ParseUint(p, 10, 63)
		if err != nil || strconv.FormatUint(n, 10) != p {
			return v, false
		}
		v.Numbers[i] = n
	}
	return v, true
}

// identifiers checks a list of identifiers: letters, digits and hyphens, none empty, and
// where numbers count none with a leading zero.
func identifiers(s string, numbers bool) bool {
	for part := range strings.SplitSeq(s, ".") {
		if part == "" || strings.Trim(part, "0123456789abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ-") != "" {
			return false
		}
		if numbers && len(part) > 1 && part[0] == '0' && strings.Trim(part, "0123456789") == "" {
			return false
		}
	}
	return true
}

// Compare gives the order of two versions: below 0 where a comes before b.
func Compare(a, b Version) int {
	for i := range a.Numbers {
		if c := cmp.Compare(a.Numbers[i], b.Numbers[i]); c != 0 {
			return c
		}
	}
	switch {
	case len(a.Before) == 0 || len(b.Before) == 0:
		return cmp.Compare(len(b.Before), len(a.Before))
	}
	for i := range min(len(a.Before), len(b.Before)) {
		x, y := a.Before[i], b.Before[i]
		n, e := strconv.ParseUint(x, 10, 63)
		m, f := strconv.ParseUint(y, 10, 63)
		var c int
		switch {
		case e == nil && f == nil:
			c = cmp.Compare(n, m)
		case e == nil:
			c = -1
		case f == nil:
			c = 1
		default:
			c = strings.Compare(x, y)
		}
		if c != 0 {
			return c
		}
	}
	return cmp.Compare(len(a.Before), len(b.Before))
}
