package web

import (
	"context"
	"encoding/base64"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/description"
	"uncinate/internal/core/fault"
	"uncinate/internal/core/text"
)

// Refs is what a repository offers over HTTP.
type Refs struct {
	IDs  map[string]string // ref's name → object id, "HEAD" included
	Head string            // the branch that HEAD stands for; "" where the server does not say
}

// Branch gives the id of a branch, "" if there is none.
func (r Refs) Branch(name string) string { return r.IDs["refs/heads/"+name] }

// Branches lists the branches, sorted.
func (r Refs) Branches() []string {
	var out []string
	for name := range r.IDs {
		if b, ok := strings.CutPrefix(name, "refs/heads/"); ok {
			out = append(out, b)
		}
	}
	slices.Sort(out)
	return out
}

// Empty reports whether the repository has no ref at all.
func (r Refs) Empty() bool { return len(r.IDs) == 0 }

// Refs asks a repository for its refs as git does (gitprotocol-http, "Smart
// Clients"; gitprotocol-pack, "Reference Discovery"), with a user name and secret
// or, if both are empty, without.
func (c *Client) Refs(ctx context.Context, a address.Address, user, secret string) (Refs, error) {
	call := description.Call{Method: http.MethodGet, URL: a.Bare().String() + "/info/refs?service=git-upload-pack", Header: http.Header{}}
	if user != "" || secret != "" {
		call.Header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(user+":"+secret)))
	}
	answer, err := c.Do(ctx, call)
	if err != nil {
		return Refs{}, err
	}
	where := a.Bare().String()
	switch {
	case answer.Status == http.StatusUnauthorized && call.Header.Get("Authorization") == "":
		return Refs{}, fault.New(fault.HostSaidNo, "%s asks for a sign-in", where).
			Try("give it a user name and a token", text.Command("uncinate", "account", "add", "--at", where, "--user", "NAME"))
	case answer.Status == http.StatusUnauthorized || answer.Status == http.StatusForbidden:
		return Refs{}, fault.New(fault.HostSaidNo, "%s does not accept the sign-in of %s", where, text.Quote(user))
	case answer.Status == http.StatusNotFound:
		f := fault.New(fault.HostSaidNo, "there is no repository at %s", where)
		if user != "" {
			f.Says += ", or not for " + text.Quote(user)
		}
		return Refs{}, f
	case answer.Status != http.StatusOK:
		return Refs{}, fault.New(fault.Unreachable, "%s answers with status %d when asked for its branches", where, answer.Status)
	case answer.Header.Get("Content-Type") != "application/x-git-upload-pack-advertisement":
		return Refs{}, fault.New(fault.Unreachable, "what answers at %s is no git repository", where).
			Detail("It begins: %s", text.Excerpt(string(answer.Body[:min(len(answer.Body), 120)]), 60))
	}
	refs, ok := ParseAdvertisement(string(answer.Body))
	if !ok {
		return Refs{}, fault.New(fault.Unreachable, "what %s answers is not what a git server sends", where)
	}
	return refs, nil
}

// ParseAdvertisement reads a reference advertisement of protocol version 0 or 1
// (gitprotocol-pack) in pkt-lines (gitprotocol-common).
func ParseAdvertisement(s string) (Refs, bool) {
	r := Refs{IDs: map[string]string{}}
	first := true
	for len(s) >= 4 {
		n, err := strconv.ParseUint(s[:4], 16, 32)
		if err != nil || n > 0 && n < 4 || int(n) > len(s) {
			return r, false
		}
		if n == 0 {
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
		if !found || len(id) != 40 && len(id) != 64 || strings.Trim(id, "0123456789abcdef") != "" {
			return r, false
		}
		if first {
			for c := range strings.FieldsSeq(capabilities) {
				if head, ok := strings.CutPrefix(c, "symref=HEAD:refs/heads/"); ok {
					r.Head = head
				}
			}
			first = false
		}
		if name != "capabilities^{}" && !strings.HasSuffix(name, "^{}") {
			r.IDs[name] = id
		}
	}
	return r, s == ""
}
