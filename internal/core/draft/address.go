package draft

import (
	"strings"

	"uncinate/internal/core/text"
)

// template makes an address's template of the example that a repository's schema has of it; "" for none.
func (w *writer) template(field, base string) string {
	props := w.repoProperties()
	example := func(f string) string {
		at, ok := w.assign([]string{f}, props)[f]
		if !ok {
			return ""
		}
		return str(at.schema["example"])
	}
	if s := w.written(field, base); s != "" {
		return s
	}
	for _, link := range w.links(props) {
		if link.field == field && link.example != "" {
			return filled(link.example, base, example)
		}
	}
	return filled(example(field), base, example)
}

var address = text.Pattern(`(?:https?|ssh)://[^\s"'<>()]+`)

// written finds an address's template where the document says it in words, with names in braces; "" for none.
func (w *writer) written(field, base string) string {
	told, from := str(table(w.doc.root["info"])["description"]), 0
	for _, at := range address().FindAllStringIndex(told, 20) {
		before := told[max(from, at[0]-60):at[0]]
		a := strings.TrimRight(told[at[0]:at[1]], ".,;:!?")
		if from = at[1]; !strings.Contains(a, "{") {
			continue
		}
		if i := strings.LastIndexAny(before, ".;"); i >= 0 {
			before = before[i+1:]
		}
		is := "page"
		switch {
		case strings.HasPrefix(a, "ssh:"):
			is = "ssh"
		case strings.HasSuffix(a, ".git"), says(words(before), "git,clone,fetch"):
			is = "https"
		}
		if is != field {
			continue
		}
		for _, m := range braced().FindAllString(a, -1) {
			v := w.variable(strings.Trim(m, "{}"))
			if v != "owner" && v != "name" {
				return ""
			}
			if _, cut := w.assign([]string{"path"}, w.repoProperties())["path"]; v == "owner" && (cut || strings.HasPrefix(a, "ssh:") && !strings.HasSuffix(a, ".git")) {
				v = "+owner"
			}
			a = strings.Replace(a, m, "{"+v+"}", 1)
		}
		return onBase(a, base)
	}
	return ""
}

// onBase puts variables in the place of an address's host, where that is the base's.
func onBase(address, base string) string {
	if rest, ok := strings.CutPrefix(address, base); ok {
		return "{+base}" + rest
	}
	_, host, _ := strings.Cut(base, "://")
	return strings.Replace(address, "@"+host, "@{+host}", 1)
}

var braced = text.Pattern(`\{[^{}]*\}`)

// filled puts variables in the place of what a document's examples have.
func filled(address, base string, example func(string) string) string {
	owner, name, path := example("owner"), example("name"), example("path")
	if i := strings.LastIndexByte(path, '/'); i > 0 {
		owner, name = path[:i], path[i+1:]
	}
	return fill(address, base, owner, name)
}

// fill puts variables in the place of an address's owner, name and host; "" where they are not in it.
func fill(address, base, owner, name string) string {
	if address == "" || owner == "" || name == "" || !strings.Contains(address, owner) || !strings.Contains(address, name) {
		return ""
	}
	address = onBase(address, base)
	as := text.Either(strings.Contains(owner, "/"), "{+owner}", "{owner}")
	address = strings.Replace(address, "/"+owner, "/"+as, 1)
	address = strings.Replace(address, "="+owner, "="+as, 1)
	i := strings.LastIndex(address, name)
	if i < 0 {
		return ""
	}
	return address[:i] + "{name}" + address[i+len(name):]
}
