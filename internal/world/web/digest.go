package web

import (
	"context"
	"crypto/md5"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"net/http"
	"net/url"
	"strings"

	"uncinate/internal/core/description"
)

// doSigned makes a request with a name and a secret: by the basic scheme (RFC 7617), or by the digest scheme (RFC 7616)
// where the server wants that one.
func (c *Client) doSigned(ctx context.Context, call description.Call, user, secret string) (description.Answer, error) {
	if user == "" && secret == "" {
		return c.Do(ctx, call)
	}
	header := call.Header
	call.Header = basic(user, secret)
	for name, values := range header {
		call.Header[name] = values
	}
	answer, err := c.Do(ctx, call)
	if err != nil || answer.Status != http.StatusUnauthorized {
		return answer, err
	}
	for _, challenge := range answer.Header.Values("WWW-Authenticate") {
		says, is := digest(challenge, call.Method, call.URL, user, secret)
		if !is {
			continue
		}
		call.Header.Set("Authorization", says)
		return c.Do(ctx, call)
	}
	return answer, nil
}

// schemes names the kinds of sign-in that a server offers, such as "Negotiate" (RFC 9110, 11.6.1).
func schemes(header http.Header) []string {
	var out []string
	for _, challenge := range header.Values("WWW-Authenticate") {
		if name, _, _ := strings.Cut(strings.TrimSpace(challenge), " "); name != "" {
			out = append(out, name)
		}
	}
	return out
}

// digest answers a challenge of the digest scheme; false for one of another scheme, or of a form that is not known here.
func digest(challenge, method, to, user, secret string) (string, bool) {
	scheme, rest, _ := strings.Cut(strings.TrimSpace(challenge), " ")
	if !strings.EqualFold(scheme, "Digest") {
		return "", false
	}
	p := parameters(rest)
	kind := func() hash.Hash { return md5.New() } // as the scheme has it where nothing is said
	switch strings.ToUpper(p["algorithm"]) {
	case "", "MD5":
	case "SHA-256":
		kind = sha256.New
	default:
		return "", false
	}
	sum := func(parts ...string) string {
		h := kind()
		h.Write([]byte(strings.Join(parts, ":")))
		return hex.EncodeToString(h.Sum(nil))
	}
	at, err := url.Parse(to)
	nonce := make([]byte, 16)
	if _, e := rand.Read(nonce); err != nil || e != nil {
		return "", false
	}
	own, uri := hex.EncodeToString(nonce), at.RequestURI()
	out := fmt.Sprintf(`Digest username=%s, realm=%s, nonce=%s, uri=%s`, quote(user), quote(p["realm"]), quote(p["nonce"]), quote(uri))
	who, what := sum(user, p["realm"], secret), sum(method, uri)
	qop := ""
	for q := range strings.SplitSeq(p["qop"], ",") {
		if strings.TrimSpace(q) == "auth" {
			qop = "auth"
		}
	}
	switch {
	case qop != "":
		out += fmt.Sprintf(`, qop=auth, nc=00000001, cnonce="%s", response="%s"`, own, sum(who, p["nonce"], "00000001", own, qop, what))
	case p["qop"] != "":
		return "", false
	default: // RFC 2069's form
		out += fmt.Sprintf(`, response="%s"`, sum(who, p["nonce"], what))
	}
	if p["algorithm"] != "" {
		out += ", algorithm=" + strings.ToUpper(p["algorithm"])
	}
	if p["opaque"] != "" {
		out += ", opaque=" + quote(p["opaque"])
	}
	return out, true
}

func quote(s string) string { return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(s) + `"` }

// parameters reads those of a challenge (RFC 9110, 11.2), by their names in small letters.
func parameters(s string) map[string]string {
	out := map[string]string{}
	for s = strings.TrimLeft(s, " ,\t"); s != ""; s = strings.TrimLeft(s, " ,\t") {
		name, rest, found := strings.Cut(s, "=")
		if !found {
			break
		}
		value := ""
		if quoted, is := strings.CutPrefix(strings.TrimLeft(rest, " \t"), `"`); is {
			i := 0
			for ; i < len(quoted) && quoted[i] != '"'; i++ {
				if quoted[i] == '\\' && i+1 < len(quoted) {
					i++
				}
				value += quoted[i : i+1]
			}
			s = quoted[min(i+1, len(quoted)):]
		} else {
			value, s, _ = strings.Cut(rest, ",")
			value = strings.TrimSpace(value)
		}
		out[strings.ToLower(strings.TrimSpace(name))] = value
	}
	return out
}
