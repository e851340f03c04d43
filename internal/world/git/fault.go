package git

import (
	"errors"
	"strings"

	"uncinate/internal/core/fault"
)

// Fault turns a failed run of git into a fault with git's own words.
func Fault(err error, format string, args ...any) error {
	if err == nil {
		return nil
	}
	var e *Error
	f := fault.New(fault.Failed, format, args...).Because(err)
	if errors.As(err, &e) {
		if e.Stalled > 0 {
			f.Detail("Nothing came from it for %s, so that was ended. What was received until then is not used.", e.Stalled)
		}
		if e.Full && !strings.Contains(e.Says, "No space left on device") { // it does not always tell
			f.Detail("There is no space left on device: the file system is full.")
		}
		for _, line := range e.Lines(6) {
			f.Detail("git says: %s", line)
		}
		return f
	}
	return err
}

// PersonName is a name, or an e-mail address, as git takes it in a commit (git-fast-import documentation).
func PersonName(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune("<>\x7f", r) {
			return '_'
		}
		return r
	}, s)
}
