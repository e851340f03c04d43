package description

import "slices"

// Wants are what a person may want a token for, each with the needs of ours that it
// takes beyond the ones before it.
var Wants = []struct {
	Name  string
	Needs []string
	Says  string
}{
	{"read", []string{"identify", "read"}, "bring repositories here and keep them up to date"},
	{"write", []string{"write"}, "send work"},
	{"publish", []string{"create", "change"}, "create repositories and set them up"},
	{"delete", []string{"delete"}, "delete repositories"},
	{"keys", []string{"keys"}, "manage SSH keys"},
	{"people", []string{"people"}, "give people access"},
	{"offers", []string{"offers"}, "make and accept merge offers"},
	{"protect", []string{"protect"}, "protect branches"},
	{"hooks", []string{"hooks"}, "set up servers that follow"},
}

// Gives reports whether the host has anything of what a token may be wanted for: an action that
// needs it, or a scope for it.
func (d *Description) Gives(want string) bool {
	for _, w := range Wants {
		if w.Name != want {
			continue
		}
		for _, need := range w.Needs {
			if len(d.Scopes[need]) > 0 {
				return true
			}
			for _, a := range d.Actions {
				if slices.Contains(a.Needs, need) {
					return true
				}
			}
		}
	}
	return false
}

// Lacking names the host's scopes that needs of ours take and that are not among those that are there, nor in one of them
// ([implies]).
func (d *Description) Lacking(there, needs []string) []string {
	held := slices.Clone(there)
	for i := 0; i < len(held); i++ {
		for _, in := range d.Implies[held[i]] {
			if !slices.Contains(held, in) {
				held = append(held, in)
			}
		}
	}
	var missing []string
	for _, need := range needs {
		for _, scope := range d.Scopes[need] {
			if !slices.Contains(held, scope) && !slices.Contains(missing, scope) {
				missing = append(missing, scope)
			}
		}
	}
	return missing
}

// LeastScopes gives the host's scopes that a token takes for what is wanted, the least
// that will do, in the description's order. Reading, writing and publishing each hold
// the one before. nil means that the host has no scopes.
func (d *Description) LeastScopes(wants ...string) []string {
	if len(d.Scopes) == 0 {
		return nil
	}
	needs := []string{"identify"}
	for i, w := range Wants {
		if slices.Contains(wants, w.Name) {
			needs = append(needs, w.Needs...)
			for j := 0; j < i && i < 3; j++ {
				needs = append(needs, Wants[j].Needs...)
			}
		}
	}
	out := []string{}
	for _, need := range needNames {
		if !slices.Contains(needs, need) {
			continue
		}
		for _, scope := range d.Scopes[need] {
			if !slices.Contains(out, scope) {
				out = append(out, scope)
			}
		}
	}
	return slices.DeleteFunc(out, func(s string) bool { // what another one holds
		return slices.ContainsFunc(out, func(o string) bool { return o != s && slices.Contains(d.Implies[o], s) })
	})
}
