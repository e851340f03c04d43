package histories

import (
	"fmt"
	"strings"
)

// Walk is a history read once, in which commits are then compared without another look.
type Walk struct {
	index   map[string]int32
	parents [][]int32
	mark    []int32 // of a commit: the number of the last search that met it
	search  int32
	base    []bool // of a commit: whether the one that was compared with last leads to it
	held    int    // how many those are
	with    string
}

// ReadWalk reads a history: on each line a commit and its parents, as git rev-list --parents
// gives them (git-rev-list documentation). A parent that is on no line of its own counts too, as
// in a shallow copy it does not come.
func ReadWalk(lines string) (*Walk, error) {
	w := &Walk{index: map[string]int32{}}
	at := func(id string) int32 {
		i, known := w.index[id]
		if !known {
			i = int32(len(w.parents))
			w.index[id], w.parents = i, append(w.parents, nil)
		}
		return i
	}
	for line := range strings.Lines(lines) {
		ids := strings.Fields(line)
		if len(ids) == 0 {
			return nil, fmt.Errorf("git rev-list gives an empty line")
		}
		i := at(ids[0])
		for _, p := range ids[1:] {
			up := at(p)
			w.parents[i] = append(w.parents[i], up)
		}
	}
	w.mark = make([]int32, len(w.parents))
	return w, nil
}

// Apart counts the commits that only one of two leads to: those of ours, and those of theirs.
// It fails where one of them was not read.
func (w *Walk) Apart(ours, theirs string) (ahead, behind int, err error) {
	a, known := w.index[ours]
	b, too := w.index[theirs]
	if !known || !too {
		return 0, 0, fmt.Errorf("%.10s or %.10s is not in the history that was read", ours, theirs)
	}
	if w.with != theirs || w.base == nil {
		w.base, w.with, w.held = make([]bool, len(w.parents)), theirs, 0
		w.each(b, func(i int32) { w.base[i] = true; w.held++ })
	}
	both := 0
	w.each(a, func(i int32) {
		if w.base[i] {
			both++
		} else {
			ahead++
		}
	})
	return ahead, w.held - both, nil
}

// each visits a commit and all that it leads to, each once.
func (w *Walk) each(from int32, see func(int32)) {
	w.search++
	next := []int32{from}
	w.mark[from] = w.search
	for len(next) > 0 {
		i := next[len(next)-1]
		next = next[:len(next)-1]
		see(i)
		for _, p := range w.parents[i] {
			if w.mark[p] != w.search {
				w.mark[p] = w.search
				next = append(next, p)
			}
		}
	}
}
