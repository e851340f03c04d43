package tree

import (
	"context"
	"errors"
	"io/fs"
	"runtime"
	"sync"
	"sync/atomic"

	"uncinate/internal/core/secrets"
	"uncinate/internal/core/survey"
	"uncinate/internal/core/text"
	"uncinate/internal/world/files"
)

// Scan looks into files, in parallel. which are their places in all. What was looked
// into before and did not change since is taken from known, if that is not nil. tell,
// if not nil, is called now and then with the number of files done.
func Scan(ctx context.Context, top string, all []survey.File, which []int, finder *secrets.Finder, known *Known, tell func(done int)) (map[int]survey.Looked, error) {
	out := map[int]survey.Looked{}
	todo := which
	if known != nil {
		todo = nil
		for _, i := range which {
			if c, ok := known.look(i, &all[i]); !ok {
				todo = append(todo, i)
			} else if worth(c) {
				out[i] = survey.Looked{Content: c}
			}
		}
	}
	var next, done atomic.Int64
	var mu sync.Mutex
	var group sync.WaitGroup
	for range min(max(2, runtime.GOMAXPROCS(0)), len(todo)/8+1) {
		group.Go(func() {
			buf := secrets.Buffer()
			var mine []entry
			defer func() { known.add(mine) }()
			for ctx.Err() == nil {
				n := int(next.Add(1)) - 1
				if n >= len(todo) {
					return
				}
				i := todo[n]
				l := look(top, &all[i], finder, buf)
				if known.keeps(&all[i]) && l.Failed == "" && !l.Moving {
					mine = append(mine, entry{keyOf(&all[i]), i, l.Content})
				}
				if worth(l.Content) || l.Failed != "" || l.Moving {
					mu.Lock()
					out[i] = l
					mu.Unlock()
				}
				if d := done.Add(1); tell != nil && d%64 == 0 {
					tell(int(d))
				}
			}
		})
	}
	group.Wait()
	return out, ctx.Err()
}

// worth reports whether a content says anything that is judged.
func worth(c secrets.Content) bool { return len(c.Findings) > 0 || c.Generated || c.Object != "" }

// look reads one file.
func look(top string, f *survey.File, finder *secrets.Finder, buf []byte) (l survey.Looked) {
	r, err := openContents(top, f.Path)
	if errors.Is(err, fs.ErrNotExist) {
		l.Moving = true
		return l
	}
	if err != nil {
		l.Failed = text.Visible(files.Plain(err))
		return l
	}
	defer r.Close()
	if l.Content, err = finder.Read(f.Path, r, buf); err != nil {
		l.Failed = text.Visible(files.Plain(err))
		return l
	}
	l.Moving = !r.is(f)
	return l
}
