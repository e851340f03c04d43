package gitconfig

import (
	"strings"

	"uncinate/internal/core/text"
)

// What of a value may be a secret: what stands for one by its name, a user and password in an
// address, a header's contents, and long words of letters and digits that are not a path.
var (
	namedSecret   = text.Pattern(`(?i)((?:pass|secret|token|auth|key|credential)[a-z_-]*\s*[=:]\s*)(?:(?:basic|bearer|token)\s+)?[^\s;'"&]+`)
	addressSecret = text.Pattern(`://[^/@\s]*@`)
	longWord      = text.Pattern(`[A-Za-z0-9_~+=-]{20,}`)
)

// Shown gives a setting's value to be shown, with stars in the place of what may be a secret.
func Shown(value string) string {
	value = addressSecret().ReplaceAllString(namedSecret().ReplaceAllString(value, "$1***"), "://***@")
	var b strings.Builder
	at := 0
	for _, m := range longWord().FindAllStringIndex(value, -1) {
		word := value[m[0]:m[1]]
		path := m[0] > 0 && value[m[0]-1] == '/' || m[1] < len(value) && value[m[1]] == '/'
		if !path && strings.ContainsAny(word, "0123456789") && strings.ContainsAny(strings.ToLower(word), "abcdefghijklmnopqrstuvwxyz") {
			b.WriteString(value[at:m[0]] + "***")
			at = m[1]
		}
	}
	return b.String() + value[at:]
}
