// Package gitcred reads and writes git's credential protocol
// (git-credential documentation, "INPUT/OUTPUT FORMAT").
package gitcred

import (
	"bufio"
	"io"
	"net/url"
	"slices"
	"strings"

	"uncinate/internal/core/address"
	"uncinate/internal/core/fault"
)

// Most is how much of a request, in bytes, is read.
const Most = 64 << 10

// Request is what git asks for.
type Request struct {
	Protocol, Host, Path, User string
}

// Read takes one request: lines key=value up to an empty line or the end.
// Unknown keys are passed over, as the protocol demands.
func Read(r io.Reader) (Request, error) {
	var q Request
	in := bufio.NewScanner(io.LimitReader(r, Most+1))
	in.Buffer(make([]byte, 4096), Most)
	read := 0
	for in.Scan() {
		line := in.Text()
		if read += len(line) + 1; read > Most {
			return Request{}, fault.New(fault.Failed, "git's credential request is longer than %d bytes", Most)
		}
		if line == "" {
			break
		}
		key, value, found := strings.Cut(line, "=")
		if !found || strings.ContainsRune(value, 0) {
			return Request{}, fault.New(fault.Failed, "a line of git's credential request is not key=value")
		}
		switch key {
		case "protocol":
			q.Protocol = value
		case "host":
			q.Host = value
		case "path":
			q.Path = value
		case "username":
			q.User = value
		}
	}
	if err := in.Err(); err != nil {
		return Request{}, fault.New(fault.Failed, "git's credential request cannot be read").Because(err)
	}
	return q, nil
}

// For reports whether the request is for exactly the repository at a: the same
// protocol, host, port and path, with or without ".git". A request without a
// path, or with a user name that is not user, is for something else.
func (q Request) For(a address.Address, user string) bool {
	if q.Path == "" || (q.User != "" && q.User != user) {
		return false
	}
	// git-lfs asks for a place below the repository, where its large files are talked of.
	path := strings.TrimPrefix(q.Path, "/")
	if plain, err := url.PathUnescape(path); err != nil || slices.ContainsFunc(strings.FieldsFunc(plain, func(r rune) bool { return r == '/' || r == '\\' }), func(part string) bool { return part == "." || part == ".." }) {
		return false // it leads elsewhere than it seems to
	}
	if i := strings.Index(path+"/", "/info/lfs/"); i > 0 {
		path = path[:i]
	}
	asked, err := address.Parse(q.Protocol + "://" + q.Host + "/" + path)
	return err == nil && (asked.Scheme == "https" || asked.Scheme == "http") && asked.Same(a)
}

// Answer writes a user name and a secret. Neither may hold a newline or NUL.
func Answer(w io.Writer, user, secret string) error {
	if strings.ContainsAny(user+secret, "\n\r\x00") {
		return fault.New(fault.Failed, "a credential with a line end in it cannot be handed to git")
	}
	_, err := io.WriteString(w, "username="+user+"\npassword="+secret+"\n")
	return err
}

// Stop tells git to ask nobody else and to fail at once.
func Stop(w io.Writer) error {
	_, err := io.WriteString(w, "quit=1\n")
	return err
}
