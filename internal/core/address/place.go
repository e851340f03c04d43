package address

import "strings"

// ParsePlace reads the address of a server over HTTP, or of a part of it: several repositories may be below it. Its path
// may be empty.
func ParsePlace(s string) (Address, error) {
	a, err := Parse(s)
	if err == nil {
		return a, nil
	}
	// With a path that is taken off again, all else is judged as it is of a repository.
	if a, again := Parse(strings.TrimRight(strings.TrimSpace(s), "/") + "/x"); again == nil && a.Path == "x" && a.Scheme != "ssh" {
		a.Path = ""
		return a, nil
	}
	return Address{}, err
}

// Within reports whether a repository is at a place or below it, as git matches addresses in its settings
// (git-config documentation, http.<url>.*): whole parts of the path count.
func (a Address) Within(place Address) bool {
	return a.Host != "" && a.Scheme == place.Scheme && a.Host == place.Host &&
		(place.Path == "" || a.Path == place.Path || strings.HasPrefix(a.Path, place.Path+"/"))
}
