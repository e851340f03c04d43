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
	Command string   `json:"command" says:"what does it"`
	State   string   `json:"state" says:"yes, partly, by hand, or no"`
	Actions []string `json:"actions,omitempty" says:"the actions that it takes"`
	Missing []string `json:"missing,omitempty" says:"those of them that are not described"`
	Page    string   `json:"page,omitempty" says:"where it is done by hand"`
}

// abilities are what a person may want, in the order of the work, with the actions
// that each takes.
var abilities = []struct {
	what    string
	command string
	actions []string
}{
	{"sign in, and say whose the token is", "account add", []string{"identify"}},
	{"list repositories", "repository list", []string{"repository-list"}},
	{"find one by name, and check it", "repository show", []string{"repository-show"}},
	{"create repositories", "repository create", []string{"repository-create"}},
	{"choose whose a new one is", "attach --owner", []string{"owner-list"}},
	{"change name, description, visibility, default branch", "repository change", []string{"repository-change"}},
	{"move to another owner", "repository transfer", []string{"repository-transfer"}},
	{"archive, and end that", "repository archive", []string{"repository-archive", "repository-reopen"}},
	{"delete", "repository delete", []string{"repository-delete"}},
	{"a copy of one's own, to contribute", "repository copy", []string{"repository-copy"}},
	{"import from an address", "repository import", []string{"repository-import"}},
	{"SSH keys", "key", []string{"key-list", "key-add", "key-remove"}},
	{"signing keys", "key", []string{"signing-key-list", "signing-key-add", "signing-key-remove"}},
	{"deploy keys", "access", []string{"deploy-key-list", "deploy-key-add", "deploy-key-remove"}},
	{"know the host by its own SSH keys", "host pin", []string{"host-key-list"}},
	{"renew the token", "token renew", []string{"token-renew"}},
	{"revoke the token", "token revoke", []string{"token-revoke"}},
	{"end the tokens of a lost machine", "token revoke --machine", []string{"token-list", "token-end"}},
	{"give people access", "access", []string{"people-list", "people-grant", "people-withdraw"}},
	{"look people up by name", "access grant", []string{"people-search"}},
	{"invite people, also by e-mail", "access grant", []string{"invitation-send", "invitation-sent", "invitation-withdraw"}},
	{"take invitations, or decline them", "invitation", []string{"invitation-list", "invitation-accept", "invitation-decline"}},
	{"protect branches", "repository protect", []string{"protection-list", "branch-protect", "branch-unprotect"}},
	{"offer work to be merged", "offer create", []string{"offer-make", "offer-list", "offer-show"}},
	{"accept offers, and close them", "offer accept", []string{"offer-list", "offer-show", "offer-accept", "offer-close"}},
	{"see what people said of an offer", "offer show", []string{"offer-remark-list"}},
	{"see what checks said of an offer", "offer show", []string{"offer-check-list"}},
	{"see offers of all repositories at once", "offer list --all", []string{"offer-all-list"}},
	{"ring a server that follows a branch", "deploy hook", []string{"hook-list", "hook-add", "hook-remove"}},
	{"compare many projects at once", "status --all", []string{"head-list"}},
	{"tell how much storage is used", "host compare", []string{"storage-used"}},
}

// unused are the actions of the language that no command carries out yet: a description may have them.
var unused = []string{"token-show"}

// Abilities tells what will and what will not be possible with the description.
func (d *Description) Abilities() []Ability {
	var out []Ability
	for _, a := range abilities {
		x := Ability{What: a.what, Command: a.command, State: "yes", Actions: a.actions}
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
	d.Remarks = append(append(d.Remarks, l.braces...), l.empty...)
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
			if Looks(name) && q.Method != "GET" && !q.Repeat && i == 0 && q.JSON != nil {
				say("action.%s looks by %s; if asking twice does no harm, say: repeat = true", name, q.Method)
			}
		}
	}
	for _, name := range unused {
		if d.Actions[name] != nil {
			d.Later = append(d.Later, "action."+name)
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

// lists reports whether an action gives several things, page by page.
func lists(action string) bool {
	return strings.HasSuffix(action, "-list") || action == "invitation-sent" || action == "people-search"
}

// Looks reports whether an action of a name changes nothing on the host.
func Looks(action string) bool {
	return action == "identify" || lists(action) || strings.HasSuffix(action, "-show") || action == "storage-used"
}

// Looks reports whether an action changes nothing on the host.
func (a *Action) Looks() bool { return Looks(a.Name) }
