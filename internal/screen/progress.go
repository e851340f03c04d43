package screen

import (
	"fmt"
	"strings"
	"sync"
	"time"

	"uncinate/internal/core/text"
)

// meter is what is told of long work.
type meter struct {
	sync.Mutex
	what        string
	done, total int64
	more        string
	began       time.Time // of this piece of work
	last        time.Time // when something was told of it
	bar         bool      // a line of it is on the screen
	beats       bool      // it is drawn again while nothing new is known
	end         chan struct{}
}

// beat is how often the line is drawn again while nothing new is known.
const beat = 500 * time.Millisecond

// Progress implements job.Teller: one line, drawn over itself, on a terminal; a plain
// line now and then elsewhere, so that long work is not silent there.
func (e *Env) Progress(what string, done, total int64, more string) {
	if e.quiet {
		return
	}
	m := &e.meter
	m.Lock()
	defer m.Unlock()
	if total <= 0 {
		e.unbar()
		if m.end != nil {
			close(m.end)
		}
		m.what, m.began, m.last, m.end = "", time.Time{}, time.Time{}, nil
		return
	}
	now := time.Now()
	if m.began.IsZero() || what != m.what {
		m.began = now
	}
	m.what, m.done, m.total, m.more = what, done, total, more
	if m.beats && m.end == nil {
		m.end = make(chan struct{})
		go e.beat(m.end)
	}
	if e.Err.terminal && m.bar && done < total && now.Sub(m.last) < 60*time.Millisecond {
		return
	}
	e.draw(now)
}

// beat draws the line again from time to time, until the work is done: one sees that it goes on.
func (e *Env) beat(end chan struct{}) {
	tick := time.NewTicker(beat)
	defer tick.Stop()
	for {
		select {
		case <-end:
			return
		case now := <-tick.C:
			e.meter.Lock()
			if e.meter.end == end && (e.meter.bar || !e.Err.terminal) {
				e.draw(now)
			}
			e.meter.Unlock()
		}
	}
}

// draw tells how far it is.
func (e *Env) draw(now time.Time) {
	m := &e.meter
	more := ""
	if m.more != "" {
		more = "  " + e.Err.visible(m.more)
	}
	if took := now.Sub(m.began); took >= 2*time.Second {
		more += "  " + clock(took)
		if left := time.Duration(float64(took) * float64(m.total-m.done) / float64(max(m.done, 1))); m.done > 0 && m.done < m.total && left < 24*time.Hour {
			more += ", " + clock(left) + " left"
		}
	}
	if !e.Err.terminal {
		since := m.last
		if since.IsZero() || since.Before(m.began) && e.every > 0 {
			since = m.began
		}
		if now.Sub(since) >= e.every {
			m.last = now
			fmt.Fprintln(e.Err, e.Err.fold(fmt.Sprintf("    %s: %d%%%s", m.what, m.done*100/m.total, more)))
		}
		return
	}
	m.last = now
	cells := int64(24)
	if e.Err.width > 0 && e.Err.width < 60 {
		cells = 10
	}
	if room := e.Err.width - len("    ") - len(m.what) - len(" [] 100%") - int(cells) - 1; e.Err.width > 0 {
		more = text.Excerpt(more, max(room, 3))
	}
	full := int(m.done * cells / m.total)
	fmt.Fprintf(e.Err, "\r    %s [%s%s] %3d%%%s"+look+"K", m.what, strings.Repeat("=", full), strings.Repeat(" ", int(cells)-full), m.done*100/m.total, more)
	m.bar = true
}

// clock is a time in whole seconds or minutes.
func clock(d time.Duration) string {
	if d < 90*time.Second {
		return fmt.Sprintf("%d s", int(d.Seconds()+0.5))
	}
	return fmt.Sprintf("%d min", int(d.Minutes()+0.5))
}

func (e *Env) clearBar() {
	e.meter.Lock()
	defer e.meter.Unlock()
	e.unbar()
}

// unbar takes the line off the screen.
func (e *Env) unbar() {
	if e.meter.bar {
		fmt.Fprint(e.Err, "\r"+look+"K")
		e.meter.bar = false
	}
}
