package description

import (
	"maps"
	"strings"

	"uncinate/internal/core/fault"
)

// Words fills a command's words for a host that does an action over SSH. Each is given to
// the host's shell in single quotes, so that it is one word whatever it holds; the first
// one, which is the description's own, is not. Words whose variables are all empty are
// left out.
func (q *Request) Words(d *Description, vars Vars) (string, error) {
	all := d.base()
	maps.Copy(all, vars)
	if ours, _ := all["visibility"].(string); ours != "" {
		theirs, ok := d.HostWord("visibility", ours)
		if !ok {
			return "", fault.New(fault.Refused, "%s has no visibility %q (its description has no such word in [value.visibility])", d.Name, ours)
		}
		all["visibility"] = theirs
	}
	var words []string
	for i, w := range q.Command {
		if i == 0 {
			words = append(words, string(w))
			continue
		}
		s := w.fillString(all)
		if s == "" && len(w.variables()) > 0 {
			continue
		}
		if strings.ContainsAny(s, "\x00\n\r") {
			return "", fault.New(fault.Refused, "a word of a command to %s would hold a line end", d.Name)
		}
		if len(w.variables()) > 0 && strings.HasPrefix(s, "-") && string(w[0]) != "-" {
			return "", fault.New(fault.Refused, "a word of a command to %s would begin with a dash, which it could read as an option: %s", d.Name, s)
		}
		words = append(words, "'"+strings.ReplaceAll(s, "'", `'\''`)+"'")
	}
	return strings.Join(words, " "), nil
}
