package description

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"strconv"
	"strings"
	"time"

	"uncinate/internal/core/text"
)

// Hook says how a call of a web hook is told to be the host's: what its signature is
// made of, and where it is.
type Hook struct {
	Signature string // the header that holds it
	Form      string // how it is written: {hex} or {base64} of an HMAC (RFC 2104), or {secret} itself
	Hash      string // "sha256" or "sha512" (FIPS 180-4)
	Over      string // what is signed: {body}, and maybe {time}
	Time      string // the header that holds the time of the call, in RFC 3339 or epoch seconds; "" for none
	Event     string // the header that names what happened; "" for none
}

var inHook = text.Pattern(`\{(hex|base64|secret)\}`)

// hookWindow is how far the time of a call may be from ours.
const hookWindow = 5 * time.Minute

func (l *loader) hook(t *node) *Hook {
	if t == nil {
		return nil
	}
	h := &Hook{Signature: t.must("signature"), Form: t.str("form"), Hash: t.str("hash"), Over: t.str("over"), Time: t.str("time"), Event: t.str("event")}
	if h.Form == "" {
		h.Form = "{hex}"
	}
	if h.Over == "" {
		h.Over = "{body}"
	}
	if h.Hash == "" {
		h.Hash = "sha256"
	}
	if h.Hash != "sha256" && h.Hash != "sha512" {
		t.wrongMeant("hash", text.Nearest(h.Hash, []string{"sha256", "sha512"}), "a signature is made with \"sha256\" or \"sha512\"")
	}
	if len(inHook().FindAllString(h.Form, -1)) != 1 {
		t.wrong("form", "\"form\" holds one of {hex}, {base64} and {secret}, such as \"sha256={hex}\"")
	}
	if strings.Count(h.Over, "{body}") != 1 {
		t.wrong("over", "what is signed must hold {body} once: otherwise anyone may change it on its way")
	}
	if strings.Contains(h.Over, "{time}") != (h.Time != "") {
		t.wrong("time", "\"time\" names the header whose value is {time} in \"over\"; one goes with the other")
	}
	t.done()
	return h
}

// Genuine reports whether a call comes from who knows the secret, and, where its time is
// signed too, whether it comes now and not once more.
func (h *Hook) Genuine(secret string, header http.Header, body []byte, now time.Time) bool {
	got := header.Get(h.Signature)
	if secret == "" || got == "" {
		return false
	}
	at := ""
	if h.Time != "" {
		at = header.Get(h.Time)
		v, ok := clock{form: "rfc3339"}.parse(at)
		if epoch, err := strconv.ParseInt(at, 10, 64); err == nil {
			v, ok = clock{form: "epoch"}.parse(epoch)
		}
		if !ok || v.Sub(now).Abs() > hookWindow {
			return false
		}
	}
	sum := sha256.New
	if h.Hash == "sha512" {
		sum = sha512.New
	}
	mac := hmac.New(sum, []byte(secret))
	before, after, _ := strings.Cut(strings.ReplaceAll(h.Over, "{time}", at), "{body}")
	mac.Write([]byte(before))
	mac.Write(body)
	mac.Write([]byte(after))
	signature := mac.Sum(nil)
	want := strings.NewReplacer("{hex}", hex.EncodeToString(signature), "{base64}", base64.StdEncoding.EncodeToString(signature), "{secret}", secret).Replace(h.Form)
	return subtle.ConstantTimeCompare([]byte(want), []byte(got)) == 1
}
