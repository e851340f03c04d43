// Package licences holds the texts of common licences under their SPDX identifiers
// (SPDX License List, spdx.org/licenses).
package licences

import (
	"embed"
	"strings"

	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

//go:embed texts
var texts embed.FS

// Known lists the identifiers, sorted.
func Known() []string {
	list, err := texts.ReadDir("texts")
	if err != nil {
		return nil // it is embedded
	}
	var out []string
	for _, e := range list {
		out = append(out, e.Name())
	}
	return out
}

// Text gives a licence's text for a year and a holder of the copyright.
func Text(id, year, holder string) (string, error) {
	for _, known := range Known() {
		if strings.EqualFold(known, id) {
			data, err := texts.ReadFile("texts/" + known)
			return strings.NewReplacer("{year}", year, "{holder}", holder).Replace(string(data)), err
		}
	}
	f := fault.New(fault.Usage, "the licence %s is not known here; these are: %s", text.Quote(id), strings.Join(Known(), ", "))
	if near := text.Nearest(id, Known()); near != "" {
		f.Detail("Did you mean %s?", near)
	}
	return "", f
}
