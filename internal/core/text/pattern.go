package text

import (
	"regexp"
	"sync"
)

// Pattern is a regular expression that is compiled when it is first used, and not as the program begins.
func Pattern(expression string) func() *regexp.Regexp {
	return sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(expression) })
}
