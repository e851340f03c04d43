package description

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAbilities(t *testing.T) {
	states := func(d *Description) map[string]string {
		out := map[string]string{}
		for _, a := range d.Abilities() {
			out[a.What] = a.State
		}
		return out
	}
	g := states(gannet(t))
	assert.Equal(t, "yes", g["create repositories"])
	assert.Equal(t, "yes", g["SSH keys"])
	assert.Equal(t, "yes", g["invite people, also by e-mail"])
	f := states(onPaper(t, "fulmar"))
	assert.Equal(t, "by hand", f["renew the token"])
	assert.Equal(t, "no", f["revoke the token"])
	half := load(t, []byte(small+"[[action.key-list.request]]\nurl = \"{+base}/keys\"\nitems = \"$[*]\"\nread = { id = \"$.id\" }\n"))
	for _, a := range half.Abilities() {
		if a.What == "SSH keys" {
			assert.Equal(t, "partly", a.State)
			assert.Equal(t, []string{"key-add", "key-remove"}, a.Missing)
		}
	}
	var actions []string
	for _, a := range half.Abilities() {
		actions = append(actions, a.Actions...)
	}
	for _, name := range actionNames {
		assert.Equal(t, !slices.Contains(unused, name), slices.Contains(actions, name), "%s is a part of some ability, if a command carries it out", name)
	}
}

func TestRemarks(t *testing.T) {
	for add, want := range map[string]string{
		"[shape.nobody]\nid = \"$.id\"\n": "[shape.nobody] is read by no request",
		"[scopes]\nread = [\"r\"]\n[action.key-list]\nneeds = [\"keys\"]\n[[action.key-list.request]]\nurl = \"{+base}/k\"\nitems = \"$[*]\"\nread = { id = \"$.id\" }\n": `needs "keys", and [scopes] does not say`,
		"[scopes]\nkeys = [\"k\"]\n": `[scopes] names scopes for "keys", and no action needs it`,
		"[[action.key-list.request]]\nurl = \"{+base}/k\"\nkeep = { nobody = \"$.x\" }\nitems = \"$[*]\"\nread = { id = \"$.id\" }\n":                              "keeps {nobody}, and nothing uses it",
		"[[action.repository-list.request]]\nurl = \"{+base}/r\"\nitems = \"$[*]\"\nread = { owner = \"$.o\", name = \"$.n\" }\n":                                  "only the first page of a long list",
		"[[action.identify.request]]\nmethod = \"POST\"\nurl = \"{+base}/me\"\njson = { op = \"who\" }\nread = { user = \"$.u\" }\n":                               "say: repeat = true",
		"[[action.repository-create.request]]\nmethod = \"POST\"\nurl = \"{+base}/r\"\njson = { name = \"{name}\" }\nread = { owner = \"$.o\", name = \"$.n\" }\n": "attach cannot check its work",
	} {
		assert.Contains(t, strings.Join(load(t, []byte(small+add)).Remarks, "\n"), want)
	}
	for _, name := range []string{"gannet", "petrel", "fulmar"} {
		assert.Empty(t, onPaper(t, name).Remarks, "%s ships without a blemish", name)
	}
}

func TestNewPartsAreChecked(t *testing.T) {
	request := "[[action.repository-list.request]]\nurl = \"{+base}/r\"\nitems = \"$[*]\"\nread = { owner = \"$.o\", name = \"$.n\" }\n"
	for add, want := range map[string]string{
		request + "page = { by = \"number\" }\n":                                                    `paging by number needs "size"`,
		request + "page = { by = \"number\", size = 3, first = 7 }\n":                               "the first page has the number 0 or 1",
		request + "page = { by = \"cursor\" }\n":                                                    `paging by cursor needs "at"`,
		request + "page = { by = \"curser\" }\n":                                                    `did you mean "cursor"?`,
		request + "wait = { at = \"$.s\", done = [\"x\"] }\n":                                       `waiting needs "ask"`,
		request + "wait = { ask = \"{+base}/j\" }\n":                                                `waiting needs "at" and "done"`,
		request + "wait = { ask = \"{+base}/j\", at = \"$.s\", done = [\"x\"], every = \"1ns\" }\n": "asks at most every 10ms",
		request + "wait = { ask = \"{+base}/j\", at = \"$.s\", done = [\"x\"], most = \"soon\" }\n": `must be a time such as`,
		request + "repeat = \"yes\"\n":                                                              "must be true or false",
		request + "keyed = \"ownr\"\n":                                                              `did you mean "owner"?`,
		"[limits]\nfile_size = \"100\"\n":                                                           "a number and a unit",
		"[limits]\nfile_size = 100\n":                                                               "a number and a unit",
	} {
		_, mistakes := Load([]byte(small + add))
		require.NotEmpty(t, mistakes, add)
		assert.Contains(t, mistakes[0].String(), want)
	}
	_, mistakes := Load([]byte(strings.Replace(small, "header = {", "oauth = { client = \"x\", ways = [\"pigeon\"] }\nheader = {", 1)))
	var says []string
	for _, m := range mistakes {
		says = append(says, m.Says)
	}
	assert.Contains(t, strings.Join(says, "\n"), `the key "metadata" is missing`)
	assert.Contains(t, strings.Join(says, "\n"), `not by "pigeon"`)
}

func TestLeastScopes(t *testing.T) {
	g := gannet(t)
	assert.Equal(t, []string{"self"}, g.LeastScopes())
	assert.Equal(t, []string{"self", "look"}, g.LeastScopes("read"))
	assert.Equal(t, []string{"self", "look", "work", "launch", "steer"}, g.LeastScopes("publish"))
	assert.Equal(t, []string{"self", "look", "lines"}, g.LeastScopes("keys", "read"))
	assert.Nil(t, onPaper(t, "fulmar").LeastScopes("publish"), "a host without scopes asks for none")
}

func TestItemsInAMap(t *testing.T) {
	f := onPaper(t, "fulmar")
	r, err := f.Actions["owner-list"].Requests[0].Read(f, Answer{Status: 200, Body: []byte(`{"found":{"shelves":{"tern":{},"saltmarsh":{"own":false}}}}`)}, nil)
	require.NoError(t, err)
	assert.Equal(t, []map[string]any{{"owner": "saltmarsh"}, {"owner": "tern"}}, r.Items)
	assert.True(t, f.SignIn.TakesUser())
	assert.False(t, gannet(t).SignIn.TakesUser())
}

func TestTakes(t *testing.T) {
	d := gannet(t)
	for _, name := range []string{"branch", "rewriting", "deleting", "right", "mergers", "owner"} {
		assert.True(t, d.Actions["branch-protect"].Takes(name), name)
	}
	assert.False(t, d.Actions["branch-protect"].Takes("visibility"))
	p := onPaper(t, "petrel").Actions["branch-protect"]
	assert.True(t, p.Takes("right"))
	assert.False(t, p.Takes("mergers"))
	assert.Equal(t, []string{"tern", "knot"}, Text("{mergers}").fill(Vars{"mergers": []string{"tern", "knot"}}), "a list stays one")
	assert.Nil(t, Text("{mergers}").fill(Vars{"mergers": []string{}}), "and an empty one is left out")
}
