// Package description is the language in which a user says how to talk to a host:
// where its repositories are, how one signs in, which requests do what, and how
// answers and refusals are read. A description is data; this package loads it
// strictly (Load), makes requests from it (Request.Build) and reads answers
// (Request.Read). It never touches the network.
//
// Addresses are URI templates (RFC 6570), results are picked by JSONPath (RFC 9535)
// or from a header, refusals default to problem details (RFC 9457).
package description

import (
	"sync/atomic"
	"time"

	"github.com/yosida95/uritemplate/v3"
)

// Language is the version of the language that this program knows.
const Language = 1

// Description says how to talk to one host.
type Description struct {
	Name, Title, Base string

	API   *uritemplate.Template            // where the API's addresses begin
	Page  *uritemplate.Template            // a repository's page
	HTTPS *uritemplate.Template            // its clone address over https
	SSH   *uritemplate.Template            // its clone address over ssh; nil where there is none
	Also  []*uritemplate.Template          // other spellings to recognise
	Trust []string                         // origins, besides the base's, to which secrets may be sent
	Pages map[string]*uritemplate.Template // pages for a person, by what they are for

	SignIn   SignIn
	Shell    *Shell // nil: the host has an API
	Rate     Rate
	Hook     *Hook               // nil where the description does not say how a web hook's call is told to be genuine
	Scopes   map[string][]string // a need of ours → the host's scopes
	Words    map[string]Words    // "visibility", "right", "state", "way" and "outcome": ours ↔ the host's
	Mask     bool                // rights are masks of bits
	Implies  map[string][]string // a scope of the host's → those that are in it
	Time     string              // "rfc3339", "epoch" or a layout such as "%Y-%m-%d %H:%M"
	Zone     *time.Location      // where a time is that names no zone; nil: not told
	Actions  map[string]*Action
	Refusals []Refusal
	Message  []*Reading // where the host's own words are
	Limits   map[string]any
	HostKeys []string
	Cannot   map[string]string // what cannot be set → why
	Later    []string          // parts described here that this version does not carry out yet
	known    atomic.Pointer[Vars]
	Remarks  []string // what is not a mistake and yet is worth a look: parts that nothing uses, or that are missing
}

// SignIn says how a request carries the account's secret.
type SignIn struct {
	Header map[string]Text // for the API
	Query  map[string]Text
	Basic  *Basic   // for the API, instead of a header
	Git    Basic    // for git's HTTP transport
	Begins []string // how the host's tokens begin, to know one by where it was left
	OAuth  *OAuth
	// Exchange gets a short-lived token for the one that is kept; nil: the kept one is used itself.
	Exchange *Exchange
	Present  bool
}

// OAuth says how one signs in through the host's own pages.
type OAuth struct {
	Metadata *uritemplate.Template // address of the authorization server's metadata (RFC 8414)
	Client   string                // client id under which this program is known there
	Ways     []string              // "device" (RFC 8628), "browser" (RFC 7636, RFC 8252)
	Label    string                // the parameter that tells the host what to call the sign-in in its list; "": none
}

// Basic is a user name and a secret (RFC 7617).
type Basic struct{ User, Secret Text }

// Words are our words for a host's values, both ways. A value is a string, a bool,
// an int64 or a float64.
type Words map[string]any

// Action is one thing a host can do for us.
type Action struct {
	Name     string
	By       string // "request", "push", "page", "ssh" or, on a plain server, "shell"
	Makes    string // by push: the visibility of what it makes
	Page     *uritemplate.Template
	Needs    []string // our needs, keys of Scopes
	Requests []*Request
}

// Request is one request of an action, and how its answer is read.
type Request struct {
	When, Unless map[string]Text // only if these variables have (or have not) these values
	Method       string
	URL          *uritemplate.Template
	Command      []Text // over SSH instead: its words
	Query        map[string]Text
	Headers      map[string]Text
	JSON         any // map[string]any, []any, Text and constants; nil for none
	Form         map[string]Text
	Multipart    map[string]Text
	Choose       *Choose             // of several things in the answer, the one that is meant
	Keep         map[string]*Reading // variables for the requests that follow
	Inside       *Path               // the part of the answer that Read and Items start from
	Items        *Path               // for a list
	Keyed        string              // the items are in a map, and this field is their key in it
	Fields       map[string]*Reading
	Paging       *Paging
	Wait         *Wait
	Repeat       bool    // asking again does no harm, whatever the method
	signIn       *SignIn // another way to sign in than the description's
}

// Safe reports whether the request may be sent again after an unclear failure
// (RFC 9110, 9.2.1).
func (q *Request) Safe() bool { return q.Method == "GET" || q.Repeat }

// Wait says how work that was accepted is waited for. What the request reads is read
// from the last answer to Ask.
type Wait struct {
	Ask    *uritemplate.Template // where to ask; may be relative to the request's address
	At     *Reading              // the state in that answer
	Done   []string              // states in which the work is done
	Failed []string              // states in which it was refused
	Why    *Reading              // the host's reason then
	Every  time.Duration
	Most   time.Duration
}

// Paging says how the next part of a list is asked for.
type Paging struct {
	By    string   // "cursor", "link" (RFC 8288), "next", "number" or "offset"
	At    *Reading // by cursor and next: what comes next
	Total *Reading // how many items there are in all; nil: not told
	Pages *Reading // by number: how many pages there are
	More  *Reading // whether there is more; nil: not told
	Size  int      // by number and offset: items on a page
	First int      // by number: the first page's number, 0 or 1
}

// Choose says which of several things in an answer is meant: of those at From the one whose field at Where is Is, or the
// first. That there is none means that it was not found.
type Choose struct {
	From  *Path
	Where *Reading // nil: the first is meant
	Is    Text
}

// Reading says where one value is in an answer and what is to be done to it.
type Reading struct {
	At     *Path  // or
	Header string // a response header, or
	Cookie string // a cookie that the answer sets (RFC 6265, section 4.1)
	Strip  string // a prefix to take off
	Cut    *uritemplate.Template
	Split  string // a separator: the value is a list
	As     string // "rfc3339", "epoch", "seconds" (from now on), a layout, or "" for what the field's name implies
}

// Meaning is what a refusal means to us.
type Meaning string

// The meanings.
const (
	NameTaken    Meaning = "name-taken"
	NotFound     Meaning = "not-found" // or you may not see it
	NotSignedIn  Meaning = "not-signed-in"
	TokenEnded   Meaning = "token-ended"
	ScopeMissing Meaning = "scope-missing"
	Denied       Meaning = "denied"
	PlanLimit    Meaning = "plan-limit"
	RateLimit    Meaning = "rate-limit"
	Invalid      Meaning = "invalid"
	Changed      Meaning = "changed" // a precondition failed: someone else changed it
	NotSupported Meaning = "not-supported"
	Down         Meaning = "down"
	Already      Meaning = "already"  // it is so already: invited, or among the people
	Archived     Meaning = "archived" // the repository may only be read
)

// Refusal is one rule that tells what an answer means.
type Refusal struct {
	Status int // 0 for any
	At     *Reading
	Is     any // nil: the value need only be there
	Means  Meaning
}

// Repository is a hosted repository as a host tells of it. Empty fields were not told.
type Repository struct {
	ID            string    `json:"id,omitempty"`
	Owner         string    `json:"owner"`
	Name          string    `json:"name"`
	Description   string    `json:"description,omitempty"`
	Visibility    string    `json:"visibility,omitempty"`
	DefaultBranch string    `json:"default_branch,omitempty"`
	Created       time.Time `json:"created,omitzero"`
	Creator       string    `json:"creator,omitempty"`
	Empty         *bool     `json:"empty,omitempty"` // nil: the host does not say
	Page          string    `json:"page,omitempty"`
	HTTPS         string    `json:"https,omitempty"`
	SSH           string    `json:"ssh,omitempty"`
	Archived      bool      `json:"archived,omitempty"`
	Bytes         int64     `json:"bytes,omitempty" says:"how much it takes on the host"`
	Right         string    `json:"right,omitempty"` // what the asking account may do: read, write or admin; "" where the host does not say
	toldSSH       string    // as the host told it, see WithSSH
	Version       string    `json:"-"` // entity tag (RFC 9110, 8.8.3)
}

// Path is owner/name.
func (r Repository) Path() string { return r.Owner + "/" + r.Name }

// Identity is who an account is, as its host tells.
type Identity struct {
	User           string
	FullName       string
	Email          string
	EmailConfirmed *bool // nil: the host does not say
	Active         *bool // whether the token is good; nil: not told
	Scopes         []string
	ScopesTold     bool
	Expires        time.Time // zero: not told, or never
}

// Visibilities are our words for who may see a repository, the fewest people first.
var Visibilities = []string{"private", "members", "public"}

// Ways are our words for how an offer is merged: by a merge commit, by its commits replayed one by one on top, or
// as one commit.
var Ways = []string{"merge", "replay", "one"}

// wordKind is a kind of values for which a description may have words of its own.
type wordKind struct {
	kind string
	ours []string
}

// The names a description may use. Each list is what an unknown name is compared with.
var (
	actionNames = []string{
		"identify", "repository-list", "repository-show", "repository-create", "repository-change",
		"repository-transfer", "repository-delete", "repository-archive", "repository-reopen", "repository-copy", "repository-import",
		"owner-list", "key-list", "key-add", "key-remove", "signing-key-list", "signing-key-add", "signing-key-remove",
		"deploy-key-list", "deploy-key-add", "deploy-key-remove", "host-key-list",
		"token-show", "token-renew", "token-revoke", "token-list", "token-end",
		"people-list", "people-grant", "people-withdraw", "people-search",
		"invitation-list", "invitation-accept", "invitation-decline", "invitation-send", "invitation-sent", "invitation-withdraw",
		"protection-list", "branch-protect", "branch-unprotect",
		"offer-make", "offer-list", "offer-all-list", "offer-show", "offer-accept", "offer-close", "offer-remark-list", "offer-check-list",
		"head-list", "hook-list", "hook-add", "hook-remove", "storage-used",
	}
	needNames    = []string{"identify", "read", "write", "create", "change", "delete", "keys", "people", "offers", "protect", "hooks", "tokens"}
	pageNames    = []string{"token", "key", "settings", "people", "history", "branch", "file"}
	meaningNames = []string{string(NameTaken), string(NotFound), string(NotSignedIn), string(TokenEnded), string(ScopeMissing),
		string(Denied), string(PlanLimit), string(RateLimit), string(Invalid), string(Changed), string(NotSupported), string(Down), string(Already), string(Archived)}
	// wordKinds are the kinds of values for which a description has words of its own, with ours.
	wordKinds = []wordKind{{"visibility", Visibilities}, {"right", []string{"read", "write", "admin"}}, {"state", []string{"open", "accepted", "closed"}},
		{"way", Ways}, {"outcome", []string{"passed", "failed", "running"}}}
	limitNames = []string{"plan", "as_of", "file_size", "push_size", "repository_size", "large_file_quota",
		"private_free", "private_collaborators", "public_collaborators", "requests_per_hour"}
	fieldNames = []string{"id", "owner", "name", "description", "visibility", "default_branch", "created", "creator", "empty", "page",
		"https", "ssh", "version", "archived", "head", "user", "full_name", "email", "email_confirmed", "active", "scopes", "expires", "kind",
		"title", "key", "used", "right", "number", "state", "text", "branch", "tag", "target", "secret", "address", "bytes",
		"inherited", "rewriting", "deleting", "mergers",
		"from_owner", "from_name", "ref", "merged", "ended_by", "removing", "outcome", "file"}
	variableNames = []string{"base", "host", "api", "owner", "name", "path", "user", "token", "branch", "target", "file", "id",
		"description", "visibility", "default_branch", "cursor", "page", "offset", "size", "find", "title", "key", "right", "person", "version",
		"new_name", "new_owner", "text", "address", "secret", "kept_token", "email", "rewriting", "deleting", "mergers",
		"number", "state", "way", "head", "from_owner", "from_name", "removing", "object_format"}
)
