package web

import (
	"cmp"
	"context"
	"encoding/base64"
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
	"uncinate/internal/world/git"
)

// Refs is what a repository offers over HTTP.
type Refs struct {
	IDs    map[string]string // ref's name → object id, "HEAD" included
	Head   string            // the branch that HEAD stands for; "" where the server does not say
	Format string            // how its objects are named, "sha1" or "sha256" (gitprotocol-capabilities, object-format); "" where that is not known
	Date   time.Time         // by the host's clock, when it answered (RFC 9110, 6.6.1); zero where it does not say
}

// Branch gives the id of a branch, "" if there is none.
func (r Refs) Branch(name string) string { return r.IDs["refs/heads/"+name] }

// ClaimsBranch is the branch in which claims are on hosts that take them nowhere else. It is not among
// those that people work on.
const ClaimsBranch = "uncinate/claims"

// Branches lists the branches that people work on, sorted.
func (r Refs) Branches() []string {
	var out []string
	for name := range r.IDs {
		if b, ok := strings.CutPrefix(name, "refs/heads/"); ok && b != ClaimsBranch {
			out = append(out, b)
		}
	}
	slices.Sort(out)
	return out
}

// Empty reports whether the repository has no ref at all.
func (r Refs) Empty() bool { return len(r.IDs) == 0 }

// ErrNoRepository is what is under the fault where nothing is at an address.
var ErrNoRepository = errors.New("no repository there")

// ErrNotAccepted is what is under the fault where a sign-in is not accepted.
var ErrNotAccepted = errors.New("the sign-in is not accepted")

// Refs asks a repository for its refs as git does (gitprotocol-http, "Smart
// Clients"; gitprotocol-pack, "Reference Discovery"), with a user name and secret
// or, if both are empty, without.
func (c *Client) Refs(ctx context.Context, a address.Address, user, secret string) (Refs, error) {
	call := description.Call{Method: http.MethodGet, URL: a.Bare().String() + "/info/refs?service=git-upload-pack", Header: http.Header{}}
	answer, err := c.doSigned(ctx, call, user, secret)
	if err != nil {
		return Refs{}, err
	}
	where := a.Bare().String()
	switch {
	case answer.Status == http.StatusUnauthorized && user == "" && secret == "":
		return Refs{}, fault.New(fault.HostSaidNo, "%s asks for a sign-in", where).
			Try("give it a user name and a token", text.Command("uncinate", "account", "add", "--at", where, "--user", "NAME"))
	case answer.Status == http.StatusUnauthorized || answer.Status == http.StatusForbidden:
		f := fault.New(fault.HostSaidNo, "%s does not accept the sign-in of %s", where, text.Quote(user))
		if kinds := schemes(answer.Header); len(kinds) > 0 && !slices.ContainsFunc(kinds, func(k string) bool { return strings.EqualFold(k, "Basic") || strings.EqualFold(k, "Digest") }) {
			f.Detail("It wants a sign-in of the kind %s, and here one signs in by name and password or token.", text.Visible(text.Excerpt(strings.Join(kinds, ", "), 60)))
		}
		if answer.Status == http.StatusUnauthorized {
			return Refs{}, f.Because(ErrNotAccepted)
		}
		return Refs{}, f
	case answer.Status == http.StatusNotFound:
		f := fault.New(fault.HostSaidNo, "there is no repository at %s", where)
		if user != "" {
			f.Says += ", or the account may not see it"
		}
		return Refs{}, f.Because(ErrNoRepository)
	case answer.Status != http.StatusOK:
		return Refs{}, fault.New(fault.Unreachable, "%s answers with status %d when asked for its branches", where, answer.Status)
	case answer.Header.Get("Content-Type") != "application/x-git-upload-pack-advertisement":
		if refs, ok := parseFile(string(answer.Body)); ok {
			return c.headOf(ctx, a, user, secret, refs)
		}
		return Refs{}, fault.New(fault.Unreachable, "what answers at %s is not a git repository", where).
			Detail("It begins: %s", text.Excerpt(string(answer.Body[:min(len(answer.Body), 120)]), 60))
	}
	refs, ok := ParseAdvertisement(string(answer.Body))
	if at, err := http.ParseTime(answer.Header.Get("Date")); err == nil {
		refs.Date = at
	}
	if !ok {
		return Refs{}, fault.New(fault.Unreachable, "what %s answers is not what a git server sends", where)
	}
	refs.Format = cmp.Or(FormatOf(refs.IDs), refs.Format)
	return refs, nil
}

// FormatOf tells by an id how a repository's objects are named; "" without any.
func FormatOf(ids map[string]string) string {
	for _, id := range ids {
		return text.Either(len(id) == 64, "sha256", "sha1")
	}
	return ""
}

// parseFile reads the file info/refs of a repository whose files alone are served, which receives nothing
// (gitprotocol-http, "Dumb Clients").
func parseFile(s string) (Refs, bool) {
	r := Refs{IDs: map[string]string{}}
	for line := range strings.Lines(s) {
		id, name, found := strings.Cut(strings.TrimSuffix(line, "\n"), "\t")
		if !found || !git.IsID(id) || !strings.HasPrefix(name, "refs/") || strings.ContainsAny(name, " \t\x00") {
			return r, false
		}
		if !strings.HasSuffix(name, "^{}") {
			r.IDs[name] = id
		}
	}
	return r, true
}

// headOf asks such a repository which branch HEAD stands for.
func (c *Client) headOf(ctx context.Context, a address.Address, user, secret string, refs Refs) (Refs, error) {
	answer, err := c.doSigned(ctx, description.Call{Method: http.MethodGet, URL: a.Bare().String() + "/HEAD", Header: http.Header{}}, user, secret)
	if err != nil {
		return Refs{}, err
	}
	says, is := strings.CutPrefix(strings.TrimSpace(string(answer.Body)), "ref: refs/heads/")
	switch {
	case answer.Status == http.StatusOK && is:
		refs.Head = says
	case len(refs.IDs) == 0: // an empty page is no repository
		return Refs{}, fault.New(fault.Unreachable, "what answers at %s is not a git repository", a.Bare().String())
	}
	if id := refs.Branch(refs.Head); id != "" {
		refs.IDs["HEAD"] = id
	}
	if at, err := http.ParseTime(answer.Header.Get("Date")); err == nil {
		refs.Date = at
	}
	return refs, nil
}

// basic is the header of a sign-in by name and secret (RFC 7617), or none.
func basic(user, secret string) http.Header {
	h := http.Header{}
	if user != "" || secret != "" {
		h.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(user+":"+secret)))
	}
	return h
}

// RefsRequest asks for branches, tags, claims and what HEAD stands for, also where that branch is not there yet
// (gitprotocol-v2, "ls-refs").
const RefsRequest = "0014command=ls-refs\n0017object-format=sha1\n" + refsRequest

// RefsRequest256 is the same to a repository whose objects are named by SHA-256.
const RefsRequest256 = "0014command=ls-refs\n0019object-format=sha256\n" + refsRequest

const refsRequest = "0001" + "0009peel\n" + "000csymrefs\n" + "000bunborn\n" + "0014ref-prefix HEAD\n" + "001bref-prefix refs/heads/\n" + "001aref-prefix refs/tags/\n" + "001eref-prefix refs/uncinate/\n" + "0000"

// ListRefs asks for the refs in one request, without asking first what the server can: as
// git's protocol version 2 allows once that is known (gitprotocol-v2, "HTTP Transport"). false
// says that the answer was of another kind, and Refs has to be asked.
func (c *Client) ListRefs(ctx context.Context, a address.Address, user, secret string) (Refs, bool, error) {
	return c.listRefs(ctx, a, user, secret, RefsRequest)
}

// Vacant asks a repository without any commit what its first branch is to be called (gitprotocol-v2, "unborn"), and how
// its objects are named; "" where it does not say. To who asks in the wrong format it answers nothing.
func (c *Client) Vacant(ctx context.Context, a address.Address, user, secret string) (head, format string) {
	for _, x := range [][2]string{{"sha1", RefsRequest}, {"sha256", RefsRequest256}} {
		if refs, ok, err := c.listRefs(ctx, a, user, secret, x[1]); err == nil && ok && refs.Empty() {
			return refs.Head, x[0]
		}
	}
	return "", ""
}

func (c *Client) listRefs(ctx context.Context, a address.Address, user, secret, request string) (Refs, bool, error) {
	call := description.Call{Method: http.MethodPost, URL: a.Bare().String() + "/git-upload-pack", Header: http.Header{}, Body: []byte(request)}
	call.Header.Set("Content-Type", "application/x-git-upload-pack-request")
	call.Header.Set("Accept", "application/x-git-upload-pack-result")
	call.Header.Set("Git-Protocol", "version=2")
	answer, err := c.doSigned(ctx, call, user, secret)
	if err != nil || answer.Status != http.StatusOK || answer.Header.Get("Content-Type") != "application/x-git-upload-pack-result" {
		return Refs{}, false, err
	}
	refs, ok := ParseRefs(string(answer.Body))
	return refs, ok, nil
}

// ParseRefs reads the answer to RefsRequest; one over SSH begins with what the server can,
// or is an advertisement of the older protocol.
func ParseRefs(s string) (Refs, bool) {
	r := Refs{IDs: map[string]string{}}
	ended, told := false, false
	for first := true; len(s) >= 4; first = false {
		n, err := strconv.ParseUint(s[:4], 16, 32)
		if err != nil || n > 0 && n < 4 || int(n) > len(s) {
			return r, false
		}
		if n == 0 { // what the server can ends with one too, and what it has comes after that
			s, ended, told = s[4:], !told, false
			continue
		}
		line := strings.TrimSuffix(s[4:n], "\n")
		if first && line == "version 2" {
			told = true // its capabilities, up to the flush
		}
		s = s[n:]
		if told {
			continue
		}
		ended = false
		fields := strings.Split(line, " ")
		if len(fields) < 2 || fields[0] != "unborn" && !git.IsID(fields[0]) {
			return r, false
		}
		for _, x := range fields[2:] {
			if head, found := strings.CutPrefix(x, "symref-target:refs/heads/"); found && fields[1] == "HEAD" {
				r.Head = head
			}
		}
		if fields[0] != "unborn" {
			r.IDs[fields[1]] = fields[0]
		}
	}
	return r, s == "" && ended
}

// ParseAdvertisement reads a reference advertisement of protocol version 0 or 1
// (gitprotocol-pack) in pkt-lines (gitprotocol-common).
func ParseAdvertisement(s string) (Refs, bool) {
	r := Refs{IDs: map[string]string{}}
	first, ended := true, false
	for len(s) >= 4 {
		n, err := strconv.ParseUint(s[:4], 16, 32)
		if err != nil || n > 0 && n < 4 || int(n) > len(s) {
			return r, false
		}
		if ended = n == 0; ended {
			s = s[4:]
			continue
		}
		line := strings.TrimSuffix(s[4:n], "\n")
		s = s[n:]
		if strings.HasPrefix(line, "# service=") || line == "version 1" {
			continue
		}
		line, capabilities, _ := strings.Cut(line, "\x00")
		id, name, found := strings.Cut(line, " ")
		if !found || !git.IsID(id) {
			return r, false
		}
		if first {
			for c := range strings.FieldsSeq(capabilities) {
				if head, ok := strings.CutPrefix(c, "symref=HEAD:refs/heads/"); ok {
					r.Head = head
				}
				if format, ok := strings.CutPrefix(c, "object-format="); ok {
					r.Format = format
				}
			}
			first = false
		}
		if name != "capabilities^{}" && !strings.HasSuffix(name, "^{}") {
			r.IDs[name] = id
		}
	}
	return r, s == "" && ended
}
