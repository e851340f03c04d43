package draft

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/text"
)

// paging guesses how a list goes on; "" where nothing tells.
func (w *writer) paging(o *operation) string {
	at := func(names ...string) string {
		for _, name := range names {
			found := ""
			path, _ := w.doc.find(o.answer, func(s map[string]any) bool {
				for _, own := range sortedKeys(w.doc.properties(s)) {
					if plainly(own) == plainly(name) {
						found = own
						return true
					}
				}
				return false
			})
			if path != "" && !strings.Contains(path, "[*]") {
				return path + member(found)
			}
		}
		return ""
	}
	size, numbered, cursor := int64(0), false, false
	for _, p := range o.params {
		size = max(size, p.most)
		low := plainly(p.name)
		numbered = numbered || low == "page" || low == "page_number"
		cursor = cursor || isCursor(p)
	}
	for _, t := range o.texts {
		cursor = cursor || strings.Contains(t.value, "{cursor}")
	}
	w.doc.find(o.body, func(s map[string]any) bool {
		_, page := w.doc.properties(s)["page"]
		numbered, size = numbered || page, max(size, number(s["maximum"]))
		return false
	})
	pages, first, size := w.numbering(o, at, size)
	next, total := at("next", "next_cursor", "next_page_token", "next_token", "cursor", "end_cursor", "end", "continuation"), at("total", "total_count", "total_size", "count")
	switch {
	case slices.Contains(o.headers, "Link"):
		return `{ by = "link" }`
	case next != "" && cursor:
		if more := at("more", "has_more", "has_next"); more != "" {
			return "{ by = \"cursor\", at = " + quote(next) + ", more = " + quote(more) + " }"
		}
		return "{ by = \"cursor\", at = " + quote(next) + " }"
	case pages != "" && numbered && size > 0:
		return fmt.Sprintf("{ by = \"number\", pages = %s, size = %d%s }", quote(pages), size, first)
	case total != "" && size > 0 && numbered:
		return fmt.Sprintf("{ by = \"number\", total = %s, size = %d%s }", quote(total), size, first)
	case next != "" && total != "":
		return "{ by = \"next\", at = " + quote(next) + ", total = " + quote(total) + " }"
	case next != "":
		return "{ by = \"next\", at = " + quote(next) + " }"
	}
	return ""
}

// numbering finds what a document says of numbered pages: where it tells how many there are, the first one's number, and how long
// one is.
func (w *writer) numbering(o *operation, at func(...string) string, size int64) (pages, first string, long int64) {
	w.doc.find(o.answer, func(x map[string]any) bool {
		for name, p := range w.doc.properties(x) {
			if kindOf(p) == "count" && says(words(str(p["description"])), "how many page,number of page,page there are,total page") {
				pages = at(name)
			}
		}
		return false
	})
	for _, p := range o.params {
		if low := strings.ToLower(p.name); low == "page" || low == "page_number" {
			if m := perPage().FindStringSubmatch(p.says); m != nil && size == 0 {
				size, _ = strconv.ParseInt(m[1], 10, 64)
			}
			if least, told := p.schema["minimum"]; told && number(least) == 0 || strings.Contains(p.says, "from 0") {
				first = ", first = 0"
			}
		}
	}
	return pages, first, size
}

var perPage = text.Pattern(`(\d{1,4}) (?:on|to|per|in) (?:a|each|every|the)? ?page`)

var (
	sample = text.Pattern(`\b(\d{2})\.(\d{2})\.(\d{4}) \d{2}:\d{2}(:\d{2})?|\b(\d{4})-\d{2}-\d{2} \d{2}:\d{2}(:\d{2})?`)
	offset = text.Pattern(`[+-]\d{2}:\d{2}\b`)
)

// layoutOf reads how times are written from an example in a description; "" where there is none.
func layoutOf(says string) (layout, zone string) {
	m := sample().FindStringSubmatch(says)
	switch {
	case m == nil:
		return "", ""
	case m[3] != "":
		layout = "%d.%m.%Y %H:%M" + text.Either(m[4] != "", ":%S", "")
	default:
		layout = "%Y-%m-%d %H:%M" + text.Either(m[6] != "", ":%S", "")
	}
	return layout, offset().FindString(says)
}
