package description

import (
	"math"
	"net/http"
	"strconv"
	"time"
)

// Rate says where a host tells how many requests it will still take.
type Rate struct {
	Left  *Reading // how many requests are left
	Again *Reading // when there are more, where none is left or the answer is a refusal for their rate
}

func (l *loader) rate(t *node) Rate {
	if t == nil {
		return Rate{}
	}
	l.fromNow = true
	defer func() { l.fromNow = false }()
	r := Rate{Left: t.reading("left", false), Again: t.reading("again", false)}
	if r.Again == nil {
		t.wrong("", "[rate] needs \"again\": where the host tells when it takes requests again, such as { at = \"header NAME\", as = \"seconds\" }")
	} else if r.Again.As == "" {
		r.Again.As = "seconds"
	}
	t.done()
	return r
}

// Again tells how long a host wants to be left alone that did nothing of what was
// asked: by Retry-After (RFC 9110, 10.2.3; RFC 6585, section 4), or as [rate] says.
func (d *Description) Again(a Answer, now time.Time) (time.Duration, bool) {
	if a.Status == http.StatusTooManyRequests || a.Status == http.StatusServiceUnavailable {
		value := a.Header.Get("Retry-After")
		if s, err := strconv.Atoi(value); err == nil && s >= 0 && s < 1<<20 {
			return time.Duration(s) * time.Second, true
		}
		if t, err := http.ParseTime(value); err == nil {
			return max(t.Sub(now), 0), true
		}
	}
	if d.Rate.Again == nil || a.Status == 0 {
		return 0, false
	}
	if m, _, refused := d.Refused(a); !refused || m != RateLimit {
		return 0, false
	}
	return d.again(a, now)
}

// Hold tells how long the next request should wait because this answer, which was no
// refusal, says that no more are left.
func (d *Description) Hold(a Answer, now time.Time) (time.Duration, bool) {
	if d.Rate.Left == nil {
		return 0, false
	}
	body, err := a.value()
	if err != nil {
		body = nil // headers count all the same
	}
	if written(d.Rate.Left.value(d, "", body, a.Header)) != "0" {
		return 0, false
	}
	return d.again(a, now)
}

// again reads when the host takes requests again. Times are by the host's own clock,
// where it tells that (RFC 9110, 6.6.1).
func (d *Description) again(a Answer, now time.Time) (time.Duration, bool) {
	body, err := a.value()
	if err != nil {
		body = nil
	}
	v := d.Rate.Again.value(d, "", body, a.Header)
	if d.Rate.Again.As == "seconds" {
		return seconds(v)
	}
	t, ok := d.clock(d.Rate.Again.As).parse(v)
	if !ok {
		return 0, false
	}
	if host, err := http.ParseTime(a.Header.Get("Date")); err == nil {
		now = host
	}
	return max(t.Sub(now), 0), true
}

// seconds reads a number of seconds, whole or not; parts of one count as a whole.
func seconds(v any) (time.Duration, bool) {
	f, err := strconv.ParseFloat(written(v), 64)
	if err != nil || f < 0 || f > 1<<20 {
		return 0, false
	}
	return time.Duration(math.Ceil(f)) * time.Second, true
}
