package text

import (
	"errors"
	"fmt"
	"strings"
)

// Words splits a command into its words, as a shell does at blanks and quotes, and
// expands nothing.
func Words(command string) ([]string, error) {
	var words []string
	var word strings.Builder
	in, quote := false, rune(0)
	for _, r := range command {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '\'' || r == '"':
			quote, in = r, true
		case r == ' ' || r == '\t' || r == '\n':
			if in {
				words = append(words, word.String())
				word.Reset()
				in = false
			}
		default:
			word.WriteRune(r)
			in = true
		}
	}
	if quote != 0 {
		return nil, fmt.Errorf("a quote in %s is not closed", Quote(command))
	}
	if in {
		words = append(words, word.String())
	}
	if len(words) == 0 {
		return nil, errors.New("there is no command to run")
	}
	return words, nil
}
