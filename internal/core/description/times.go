package description

import (
	"fmt"
	"strconv"
	"strings"
	"time"
)

// clock is how a host writes times: "rfc3339", "epoch", or a layout as date(1) and strftime (POSIX.1-2017) write them, with
// the zone that holds where the time itself names none.
type clock struct {
	form string // "rfc3339", "epoch", "seconds", or a layout for package time
	zone *time.Location
}

// layoutParts are the parts of a layout that are known, and what package time writes for them.
var layoutParts = map[byte]string{'Y': "2006", 'm': "01", 'd': "02", 'e': "_2", 'H': "15", 'I': "03", 'M': "04", 'S': "05", 'p': "PM", 'b': "Jan", 'B': "January",
	'a': "Mon", 'A': "Monday", 'y': "06", 'z': "-0700", 'Z': "MST", 'F': "2006-01-02", 'T': "15:04:05", 'R': "15:04", 'D': "01/02/06", 'n': "\n", 't': "\t", '%': "%"}

// newLayout turns a layout such as "%d.%m.%Y %H:%M" into one of package time.
func newLayout(s string) (string, error) {
	var b strings.Builder
	for i := 0; i < len(s); i++ {
		if s[i] != '%' {
			b.WriteByte(s[i])
			continue
		}
		i++
		if i == len(s) {
			return "", fmt.Errorf("ends in %%")
		}
		part, ok := layoutParts[s[i]]
		if !ok {
			return "", fmt.Errorf("holds %%%c, which is not known", s[i])
		}
		b.WriteString(part)
	}
	return b.String(), nil
}

// newZone finds a zone: "UTC", an offset such as "+02:00", or a name such as "Etc/GMT+1" that this machine knows.
func newZone(s string) (*time.Location, error) {
	if s == "" {
		return nil, nil
	}
	if t, err := time.Parse("-07:00", s); err == nil {
		_, offset := t.Zone()
		return time.FixedZone(s, offset), nil
	}
	if s == "Local" || strings.ContainsAny(s, "\\.\x00") || strings.HasPrefix(s, "/") {
		return nil, fmt.Errorf("is not the name of a zone")
	}
	return time.LoadLocation(s)
}

// parse reads a time; false for what is none, or for one that nobody says the zone of.
func (c clock) parse(v any) (time.Time, bool) {
	switch x := v.(type) {
	case int64:
		if x > 1<<36 { // milliseconds, as some write
			return time.UnixMilli(x).UTC(), x < 1<<50
		}
		return time.Unix(x, 0).UTC(), x > 0
	case float64:
		return c.parse(int64(x))
	case string:
		if c.form == "epoch" {
			i, err := strconv.ParseInt(x, 10, 64)
			if err != nil {
				return time.Time{}, false
			}
			return c.parse(i)
		}
		if t, err := time.Parse(time.RFC3339, x); err == nil {
			return t.UTC(), true
		}
		forms := []string{c.form}
		if c.form == "rfc3339" { // without the zone, and with a blank: as many hosts write it
			forms = []string{"2006-01-02T15:04:05", "2006-01-02 15:04:05", "2006-01-02 15:04:05Z07:00", "2006-01-02"}
		}
		for _, form := range forms {
			zone := c.zone
			if zone == nil {
				if form != time.DateOnly && !strings.Contains(form, "07") && !strings.Contains(form, "MST") {
					continue // nobody says where that hour is
				}
				zone = time.UTC
			}
			if t, err := time.ParseInLocation(form, x, zone); err == nil {
				return t.UTC(), true
			}
		}
	}
	return time.Time{}, false
}

// timeFields are the fields that are times.
var timeFields = []string{"created", "expires", "used"}

// clock is how times of a form are read on this host.
func (d *Description) clock(form string) clock {
	if layout, err := newLayout(form); err == nil && strings.Contains(form, "%") {
		form = layout
	}
	return clock{form, d.Zone}
}
