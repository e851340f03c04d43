package text

import (
	"fmt"
	"strings"
)

// TOML writes a string as TOML's basic string has it (toml.io/en/v1.0.0, "String"), on one line whatever is in it.
func TOML(s string) string {
	var b strings.Builder
	b.WriteByte('"')
	for _, r := range s {
		switch {
		case r == '"' || r == '\\':
			b.WriteByte('\\')
			b.WriteRune(r)
		case r < ' ' || r >= 0x7f && r < 0xa0 || r == 0x2028 || r == 0x2029 || r == 0xfffd:
			fmt.Fprintf(&b, `\u%04X`, r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String() + `"`
}
