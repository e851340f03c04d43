package description

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// Ability is something a person may want of a host, and whether its description lets
// the program do it.
type Ability struct {
	What    string   `json:"what"`
	State   string   `json:"state" says:"yes, partly, by hand, or no"`
	Actions []string `json:"actions,omitempty" says:"the actions that it takes"`
	Missing []string `json:"missing,omitempty" says:"those of them that are not described"`
	Page    string   `json:"page,omitempty" says:"where it is done by hand"`
}

// abilities are what a person may want, in the order of the work, with the actions
// that each takes.
var abilities = []struct {
	what    string
	actions []string
}{
	{"sign in, and say whose the token is", []string{"identify"}},
	{"list repositories", []string{"repository-list"}},
	{"find one by name, and check it", []string{"repository-show"}},
	{"create repositories", []string{"repository-create"}},
	{"choose whose a new one is", []string{"owner-list"}},
	{"change description, visibility, default branch", []string{"repository-change"}},
	{"move to another owner", []string{"repository-transfer"}},
	{"archive", []string{"repository-archive"}},
	{"delete", []string{"repository-delete"}},
	{"SSH keys", []string{"key-list", "key-add", "key-remove"}},
	{"signing keys", []string{"signing-key-list", "signing-key-add", "signing-key-remove"}},
	{"deploy keys", []string{"deploy-key-list", "deploy-key-add", "deploy-key-remove"}},
	{"know the host by its own SSH keys", []string{"host-key-list"}},
	{"renew the token", []string{"token-renew"}},
	{"revoke the token", []string{"token-revoke"}},
	{"give people access", []string{"people-list", "people-grant", "people-withdraw"}},
	{"take invitations", []string{"invitation-list", "invitation-accept"}},
	{"protect branches", []string{"branch-protect", "branch-unprotect"}},
	{"merge offers", []string{"offer-make", "offer-list", "offer-accept", "offer-close"}},
	{"servers that follow (web hooks)", []string{"hook-list", "hook-add", "hook-remove"}},
	{"a copy of one's own, to contribute", []string{"repository-copy"}},
	{"import from an address", []string{"repository-import"}},
	{"compare many projects at once", []string{"head-list"}},
	{"tell how much storage is used", []string{"storage-used"}},
}

// Abilities tells what will and what will not be possible with the description.
func (d *Description) Abilities() []Ability {
	var out []Ability
	for _, a := range abilities {
		x := Ability{What: a.what, State: "yes", Actions: a.actions}
		hand := 0
		for _, name := range a.actions {
			switch act := d.Actions[name]; {
			case act == nil:
				x.Missing = append(x.Missing, name)
			case act.By == "page":
				hand++
				x.Page = act.Page.Raw()
			}
		}
		switch {
		case len(x.Missing) == len(a.actions):
			x.State = "no"
		case len(x.Missing) > 0:
			x.State = "partly"
		case hand > 0:
			x.State = "by hand"
		}
		out = append(out, x)
	}
	return out
}

// remarks notes what is not a mistake and yet is worth a look.
func (l *loader) remarks(d *Description, shapes map[string]map[string]*Reading) {
	say := func(format string, args ...any) { d.Remarks = append(d.Remarks, fmt.Sprintf(format, args...)) }
	for _, name := range slices.Sorted(maps.Keys(shapes)) {
		if !slices.Contains(l.shapesRead, name) {
			say("[shape.%s] is read by no request", name)
		}
	}
	needed := map[string]bool{}
	for _, name := range d.Can() {
		a := d.Actions[name]
		for _, need := range a.Needs {
			needed[need] = true
			if len(d.Scopes) > 0 && d.Scopes[need] == nil {
				say("action.%s needs %q, and [scopes] does not say which of the host's scopes that takes", name, need)
			}
		}
		for i, q := range a.Requests {
			for _, kept := range slices.Sorted(maps.Keys(q.Keep)) {
				if !slices.Contains(l.variables, kept) {
					say("action.%s keeps {%s}, and nothing uses it", name, kept)
				}
			}
			if strings.HasSuffix(name, "-list") && q.Items != nil && q.Paging == nil && i == len(a.Requests)-1 && name == "repository-list" {
				say("action.%s has no \"page\": only the first page of a long list will be seen", name)
			}
			if looks(name) && q.Method != "GET" && !q.Repeat && i == 0 && q.JSON != nil {
				say("action.%s looks by %s; if asking twice does no harm, say: repeat = true", name, q.Method)
			}
		}
	}
	for _, need := range needNames {
		if d.Scopes[need] != nil && !needed[need] && need != "identify" && need != "write" {
			say("[scopes] names scopes for %q, and no action needs it", need)
		}
	}
	if d.Shell != nil {
		return
	}
	if d.Page == nil {
		say("[address] has no \"page\": a repository's page cannot be opened")
	}
	if d.SignIn.Present && d.Pages["token"] == nil {
		say("[page] has no \"token\": people do not learn where a token is made")
	}
	if d.Actions["repository-create"] != nil && d.Actions["repository-show"] == nil {
		say("repositories can be created and not shown, so attach cannot check its work: action.repository-show is missing")
	}
	if d.Actions["repository-create"] != nil && d.Actions["repository-change"] == nil {
		say("without action.repository-change a creation whose answer is lost cannot be told from someone else's")
	}
}

// looks reports whether an action changes nothing.
func looks(action string) bool {
	return action == "identify" || strings.HasSuffix(action, "-list") || strings.HasSuffix(action, "-show") || action == "storage-used"
}

// Looks reports whether an action changes nothing on the host.
func (a *Action) Looks() bool { return looks(a.Name) }
