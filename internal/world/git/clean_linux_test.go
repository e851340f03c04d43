//go:build !portable

package git

import (
	"strings"
	"testing"
)

// FuzzIndexEntries reads whatever an index may hold.
func FuzzIndexEntries(f *testing.F) {
	f.Add([]byte("DIRC\x00\x00\x00\x02\x00\x00\x00\x00TREE\x00\x00\x00\x19\x000 0\n" + strings.Repeat("a", 40)))
	f.Fuzz(func(t *testing.T, data []byte) {
		entries, _ := indexEntries(data, 20, strings.Repeat("61", 20))
		if len(entries)*62 > len(data) {
			t.Fatal("more files than there can be")
		}
		for _, size := range []int{20, 32} {
			if paths, _ := indexPaths(data, size); len(paths)*62 > len(data) {
				t.Fatal("more paths than there can be")
			}
		}
	})
}
