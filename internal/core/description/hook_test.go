package description

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestHookIsGenuine checks signatures against RFC 4231, test case 2, and what may go wrong.
func TestHookIsGenuine(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	h := load(t, []byte(small+"[hook]\nsignature = \"X-Sign\"\nform = \"v1={hex}\"\n")).Hook
	require.NotNil(t, h)
	const secret, said, signed = "Jefe", "what do ya want for nothing?", "5bdcc146bf60754e6a042426089575c75a003f089d2739839dec58b964ec3843"
	with := func(value string) http.Header { return http.Header{"X-Sign": {value}} }
	assert.True(t, h.Genuine(secret, with("v1="+signed), []byte(said), now))
	assert.False(t, h.Genuine(secret, with(signed), []byte(said), now), "another form")
	assert.False(t, h.Genuine(secret, with("v1="+signed), []byte(said+"!"), now))
	assert.False(t, h.Genuine("", with("v1="+signed), []byte(said), now))
	assert.False(t, h.Genuine(secret, http.Header{}, []byte(said), now))

	longer := load(t, []byte(small+"[hook]\nsignature = \"X-Sign\"\nform = \"{base64}\"\nhash = \"sha512\"\n")).Hook
	assert.True(t, longer.Genuine(secret, with("Fkt6e/z4GeLjlfvnO1bgo4e9ZCIugx/WECcM1+olBVSXWL91wFqZSm0DT2X48Ob9yuqxo01Ka0tjbgcKOLznNw=="), []byte(said), now))

	timed := load(t, []byte(small+"[hook]\nsignature = \"X-Sign\"\nover = \"{time}.{body}\"\ntime = \"X-Time\"\n")).Hook
	sign := func(at string) string {
		mac := hmac.New(sha256.New, []byte(secret))
		mac.Write([]byte(at + "." + said))
		return hex.EncodeToString(mac.Sum(nil))
	}
	for at, good := range map[string]bool{"1790000000": true, "1790000200": true, "2026-09-21T14:13:20Z": true, "1789999000": false, "": false, "soon": false} {
		header := with(sign(at))
		header.Set("X-Time", at)
		assert.Equal(t, good, timed.Genuine(secret, header, []byte(said), now), at)
	}
	plain := load(t, []byte(small+"[hook]\nsignature = \"X-Sign\"\nform = \"{secret}\"\n")).Hook
	assert.True(t, plain.Genuine(secret, with(secret), []byte(said), now))
	assert.False(t, plain.Genuine(secret, with("jefe"), []byte(said), now))
}

func TestRates(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	d := load(t, []byte(small+"[rate]\nleft = \"header X-Left\"\nagain = { at = \"header X-Again\", as = \"epoch\" }\n"))
	answer := func(status int, header ...string) Answer {
		a := Answer{Status: status, Header: http.Header{}}
		for i := 0; i < len(header); i += 2 {
			a.Header.Set(header[i], header[i+1])
		}
		return a
	}
	for _, c := range []struct {
		a    Answer
		want time.Duration
		told bool
	}{
		{answer(429, "Retry-After", "7"), 7 * time.Second, true},
		{answer(503, "Retry-After", now.Add(90*time.Second).UTC().Format(http.TimeFormat)), 90 * time.Second, true},
		{answer(429, "X-Again", "1790000030"), 30 * time.Second, true},
		{answer(429, "X-Again", "1790000030", "Date", now.Add(20*time.Second).UTC().Format(http.TimeFormat)), 10 * time.Second, true}, // by the host's clock
		{answer(429, "X-Again", "1"), 0, true},
		{answer(429, "X-Again", "soon"), 0, false},
		{answer(429), 0, false},
		{answer(500, "X-Again", "1790000030"), 0, false},
		{answer(200, "X-Again", "1790000030"), 0, false},
	} {
		pause, told := d.Again(c.a, now)
		assert.Equal(t, c.told, told, c.a)
		assert.Equal(t, c.want, pause, c.a)
	}
	pause, none := d.Hold(answer(200, "X-Left", "0", "X-Again", "1790000003"), now)
	assert.True(t, none)
	assert.Equal(t, 3*time.Second, pause)
	_, none = d.Hold(answer(200, "X-Left", "1", "X-Again", "1790000003"), now)
	assert.False(t, none)
	inBody := load(t, []byte(small+"[[refusal]]\nat = \"$.code\"\nis = \"WAIT\"\nmeans = \"rate-limit\"\n[rate]\nagain = \"$.seconds\"\n"))
	pause, told := inBody.Again(Answer{Status: 200, Body: []byte(`{"code": "WAIT", "seconds": 1.2}`)}, now)
	assert.True(t, told)
	assert.Equal(t, 2*time.Second, pause)
}

func TestExchange(t *testing.T) {
	now := time.Unix(1_790_000_000, 0)
	d := load(t, []byte(small+"[signin.exchange]\nurl = \"{+base}/ticket\"\nbasic = { user = \"{user}\", secret = \"{kept_token}\" }\nread = { secret = \"$.t\", expires = { at = \"$.s\", as = \"seconds\" } }\n"))
	x := d.SignIn.Exchange
	assert.True(t, d.SignIn.TakesUser())
	call, err := x.Request.Build(d, Vars{"kept_token": "long", "user": "tern"})
	require.NoError(t, err)
	assert.Equal(t, "POST", call.Method)
	assert.Equal(t, "Basic dGVybjpsb25n", call.Header.Get("Authorization"))
	assert.NotContains(t, fmt.Sprint(call), "{token}", "the short-lived one is not there yet")
	for body, ends := range map[string]time.Time{`{"t": "short", "s": 60}`: now.Add(time.Minute), `{"t": "short"}`: now.Add(5 * time.Minute)} {
		secret, until, err := x.Short(d, Answer{Status: 200, Body: []byte(body)}, now)
		require.NoError(t, err)
		assert.Equal(t, "short", secret)
		assert.True(t, ends.Equal(until), "%s %s", body, until)
	}
	_, _, err = x.Short(d, Answer{Status: 200, Body: []byte(`{}`)}, now)
	assert.ErrorContains(t, err, "told no new one")
}

func TestMistakesInHookRateAndExchange(t *testing.T) {
	for add, want := range map[string]string{
		"[hook]\nform = \"{hex}\"\n":                                                                      `"signature" is missing`,
		"[hook]\nsignature = \"X\"\nform = \"plain\"\n":                                                   "holds one of {hex}",
		"[hook]\nsignature = \"X\"\nover = \"{time}\"\ntime = \"T\"\n":                                    "must hold {body} once",
		"[hook]\nsignature = \"X\"\ntime = \"T\"\n":                                                       "one goes with the other",
		"[hook]\nsignature = \"X\"\nhash = \"sha265\"\n":                                                  `did you mean "sha256"`,
		"[rate]\nleft = \"header X\"\n":                                                                   `[rate] needs "again"`,
		"[shape.x]\ncreated = { at = \"$.c\", as = \"seconds\" }\n":                                       "only in [rate]",
		"[signin.exchange]\nurl = \"{+base}\"\nform = { k = \"{token}\" }\nread = { secret = \"$.t\" }\n": "the token that is kept is {kept_token}",
		"[signin.exchange]\nurl = \"{+base}\"\nread = { secret = \"$.t\" }\n":                             "does not send {kept_token}",
		"[signin.exchange]\nurl = \"{+base}\"\nform = { k = \"{kept_token}\" }\n":                         `must read "secret"`,
	} {
		_, mistakes := Load([]byte(small + add))
		require.NotEmpty(t, mistakes, add)
		assert.Contains(t, mistakes[0].String(), want, add)
	}
}
