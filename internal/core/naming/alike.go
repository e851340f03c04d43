package naming

import (
	"strings"
	"unicode"
)

// Alike finds, among the paths of one tree, those that a folder which takes capital and
// small letters for the same cannot keep apart: two files of one name, or a file and a
// folder. Each leads to one that it meets; the first of several, to the second. Letters
// are the same when simple case folding makes them so (Unicode 3.13, "Default Caseless
// Matching").
func Alike(paths []string) map[string]string {
	files := make(map[string]string, len(paths)) // as folded, to the first so called
	out := map[string]string{}
	meet := func(first, second string) {
		if out[first] == "" {
			out[first] = second
		}
		out[second] = first
	}
	folded := make([]string, len(paths))
	for i, p := range paths {
		folded[i] = Fold(p)
		if first, there := files[folded[i]]; !there {
			files[folded[i]] = p
		} else if first != p {
			meet(first, p)
		}
	}
	for i, p := range paths {
		for at := strings.LastIndexByte(folded[i], '/'); at > 0; at = strings.LastIndexByte(folded[i][:at], '/') {
			if file, there := files[folded[i][:at]]; there {
				meet(file, p)
			}
		}
	}
	return out
}

// Fold makes paths that differ in nothing but upper and lower case the same.
func Fold(path string) string { return strings.Map(foldRune, path) }

// foldRune gives the smallest of all that differ from a rune in case alone.
func foldRune(r rune) rune {
	if r < unicode.MaxASCII {
		return unicode.ToLower(r)
	}
	least := r
	for next := unicode.SimpleFold(r); next != r; next = unicode.SimpleFold(next) {
		least = min(least, next)
	}
	return unicode.ToLower(least)
}
