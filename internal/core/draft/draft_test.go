package draft

import (
	"fmt"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"uncinate/internal/core/description"
)

func drafted(t *testing.T, name string) Draft {
	t.Helper()
	data, err := os.ReadFile("../../practice/openapi/" + name + ".yaml")
	require.NoError(t, err)
	root, err := Read(data)
	require.NoError(t, err)
	d, why := FromOpenAPI(root, nil)
	require.Empty(t, why)
	return d
}

// leaves are all values of a TOML document by their path.
func leaves(t *testing.T, text string) map[string]string {
	t.Helper()
	var tree map[string]any
	require.NoError(t, toml.Unmarshal([]byte(text), &tree))
	out := map[string]string{}
	var walk func(path string, v any)
	walk = func(path string, v any) {
		switch x := v.(type) {
		case map[string]any:
			for k, item := range x {
				walk(path+"."+k, item)
			}
		case []any:
			for i, item := range x {
				walk(fmt.Sprintf("%s[%d]", path, i), item)
			}
		default:
			out[path] = fmt.Sprint(x)
		}
	}
	walk("", tree)
	for path, v := range out {
		if strings.HasSuffix(path, ".url") { // two ways to write one address need no correction
			out[path] = strings.Replace(v, "{+api}", out[".address.api"], 1)
		}
	}
	delete(out, ".address.api")
	return alike(out)
}

var keeps = regexp.MustCompile(`^(\.action\.[\w-]+)\.request\[(\d+)\]\.keep\.(\w+)`)

// alike gives variables that an action keeps for itself names that only tell them apart: any other name does as well.
func alike(all map[string]string) map[string]string {
	names := map[string]string{}
	for _, path := range slices.Sorted(maps.Keys(all)) {
		m := keeps.FindStringSubmatch(path)
		if m == nil || slices.Contains([]string{"description", "visibility", "default_branch", "new_name", "version"}, m[3]) {
			continue
		}
		if k := m[1] + "|" + m[3]; names[k] == "" {
			n := 1
			for other := range names {
				if strings.HasPrefix(other, m[1]+"|") {
					n++
				}
			}
			names[k] = fmt.Sprintf("kept%d", n)
		}
	}
	out := map[string]string{}
	for path, v := range all {
		for k, name := range names {
			action, own, _ := strings.Cut(k, "|")
			if strings.HasPrefix(path, action+".") {
				path = strings.Replace(path, ".keep."+own, ".keep."+name, 1)
				v = strings.NewReplacer("{"+own+"}", "{"+name+"}", "{+"+own+"}", "{+"+name+"}").Replace(v)
			}
		}
		out[path] = v
	}
	return out
}

// align lays a draft's one request beside that of the shipped action's which is most
// like it: a request that is put in before does not make all that follows another.
func align(ours, theirs map[string]string) map[string]string {
	out := map[string]string{}
	for path, v := range ours {
		before, after, found := strings.Cut(path, ".request[0].")
		best, most := 0, -1
		for j := 0; found && j < 4; j++ {
			alike := 0
			for other, w := range ours {
				if rest, ok := strings.CutPrefix(other, before+".request[0]."); ok && theirs[fmt.Sprintf("%s.request[%d].%s", before, j, rest)] == w {
					alike++
				}
			}
			if alike > most {
				best, most = j, alike
			}
		}
		if found {
			path = fmt.Sprintf("%s.request[%d].%s", before, best, after)
		}
		out[path] = v
	}
	return out
}

// corrections counts the values that a person has to change, add or take out to come
// from a draft to the description that ships, but for limits, refusals and scopes,
// which are in no OpenAPI document.
func corrections(t *testing.T, name string) []string {
	t.Helper()
	shipped, err := os.ReadFile("../../../descriptions/" + name + ".toml")
	require.NoError(t, err)
	ours, theirs := leaves(t, drafted(t, name).Text), leaves(t, string(shipped))
	ours = align(ours, theirs)
	var out []string
	for path := range maps.Keys(theirs) {
		if v, ok := ours[path]; !ok || v != theirs[path] {
			out = append(out, path+" = "+theirs[path])
		}
	}
	for path := range maps.Keys(ours) {
		if _, ok := theirs[path]; !ok {
			out = append(out, "without "+path)
		}
	}
	out = slices.DeleteFunc(out, func(s string) bool {
		for _, part := range []string{".limits", ".refusal", ".scopes", ".needs", ".title", ".cannot", ".page.", ".address.also", ".hook.", ".signin.oauth", ".signin.tokens_begin", ".rate", ".wait.every", ".wait.most"} {
			if strings.HasPrefix(strings.TrimPrefix(s, "without "), part) || strings.Contains(s, part+"[") || strings.HasPrefix(part, ".wait") && strings.Contains(s, part) {
				return true
			}
		}
		return false
	})
	slices.Sort(out)
	return out
}

// TestDraftsNeedFewCorrections drafts each practice host's published document. The
// numbers are in docs/host-descriptions.md.
func TestDraftsNeedFewCorrections(t *testing.T) {
	docs, err := os.ReadFile("../../../docs/host-descriptions.md")
	require.NoError(t, err)
	for _, name := range []string{"gannet", "petrel", "fulmar"} {
		d := drafted(t, name)
		loaded, mistakes := description.Load([]byte(d.Text))
		require.Empty(t, mistakes, "%s: the draft can be used as it is", name)
		all := corrections(t, name)
		t.Logf("%s: %d actions, %d corrections\n  %s", name, len(loaded.Can()), len(all), strings.Join(all, "\n  "))
		row := fmt.Sprintf("| %s | %d | %d |", name, len(loaded.Can()), len(all))
		assert.True(t, strings.Contains(string(docs), row), "docs/host-descriptions.md does not say %s", row)
	}
}

func TestDraftSaysHowCertainItIs(t *testing.T) {
	for name, want := range map[string]map[string]string{
		"gannet": {"repository-create": "POST /hulls", "repository-transfer": "POST /tow/{owner}/{name}", "head-list": "GET /heads", "token-revoke": "POST /revoke"},
		"petrel": {"repository-list": "GET /nests", "repository-create": "POST /nests", "repository-change": "PUT /nests/{oid}", "token-renew": "POST /token/renew"},
		"fulmar": {"identify": "POST /counter who", "repository-delete": "POST /counter strike sheet", "key-add": "POST /counter new key"},
	} {
		d := drafted(t, name)
		got := map[string]string{}
		for _, f := range d.Found {
			got[f.Action] = f.Operation
			assert.Contains(t, d.Text, fmt.Sprintf("# confidence %d of 100: %s", f.Confidence, f.Operation))
			assert.LessOrEqual(t, f.Confidence, 100)
			assert.GreaterOrEqual(t, f.Confidence, least)
		}
		for action, op := range want {
			assert.Equal(t, op, got[action], "%s %s", name, action)
		}
	}
	assert.Contains(t, drafted(t, "gannet").Missing, "token-renew", "no operation is given to two actions")
}

// TestNamesOfManyWords drafts a document that names things as many do: repoName, isClosed, nextPageToken.
func TestNamesOfManyWords(t *testing.T) {
	data, err := os.ReadFile("testdata/works.yaml")
	require.NoError(t, err)
	root, err := Read(data)
	require.NoError(t, err)
	d, why := FromOpenAPI(root, nil)
	require.Empty(t, why)
	_, mistakes := description.Load([]byte(d.Text))
	require.Empty(t, mistakes)
	got := leaves(t, d.Text)
	for path, want := range map[string]string{
		".address.https": "{+base}/git/{owner}/{name}.git", ".address.page": "{+base}/{owner}/{name}", ".address.ssh": "ssh://git@{+host}/{owner}/{name}.git",
		".value.visibility.private": "true", ".value.right.write": "WRITE", ".shape.repository.owner": "$.inletKey", ".shape.repository.name": "$.repoName",
		".shape.repository.default_branch": "$.defaultBranchName", ".shape.repository.archived": "$.isArchived", ".action.identify.request[0].read.email": "$.primaryEmail",
		".action.repository-list.request[0].page.at": "$.nextPageToken", ".action.repository-list.request[0].query.pageToken": "{cursor}", ".action.repository-list.request[0].query.filter": "{find}",
		".action.repository-create.request[0].url": "{+base}/api/v2/inlets/{owner}/repositories", ".action.repository-create.request[0].json.repoName": "{name}",
		".action.repository-change.request[0].json.repoName": "{new_name}", ".action.repository-change.request[0].headers.Content-Type": "application/merge-patch+json",
		".action.owner-list.request[0].read.owner": "$.key", ".action.key-add.request[0].json.publicKey": "{key}", ".action.people-grant.request[0].json.accessLevel": "{right}",
		".action.people-withdraw.request[0].url": "{+base}/api/v2/inlets/{owner}/repositories/{name}/grants/{person}", ".action.hook-add.request[0].read.id": "$.webhookId",
	} {
		assert.Equal(t, want, got[path], path)
	}
	assert.NotContains(t, d.Text, "action.offer-", "nothing is made up")
}

// TestWhatIsNotCertainIsLeftOpen holds that a document without meanings gives no values, and says so.
func TestWhatIsNotCertainIsLeftOpen(t *testing.T) {
	root, err := Read([]byte(`{openapi: 3.0.0, info: {title: x}, paths: {/repos: {get: {summary: List repositories, responses: {200: {content: {application/json: {schema: {type: array, items: {type: object,
		properties: {id: {type: string}, owner: {type: string}, name: {type: string}, about: {type: string}, main: {type: string}, seen: {type: string, description: how far the water is, enum: ["", ebb, flood, slack]}}}}}}}}}}}}`))
	require.NoError(t, err)
	d, why := FromOpenAPI(root, nil)
	require.Empty(t, why)
	assert.NotContains(t, d.Text, "flood")
	assert.NotContains(t, d.Text, "visibility     =")
	assert.Contains(t, strings.Join(d.Missing, "\n"), "the host's words for private, members, public")
	assert.Contains(t, strings.Join(d.Missing, "\n"), "how the API takes the token")
}

// TestLargeDocuments holds that a document that holds itself many times over is read all the same.
func TestLargeDocuments(t *testing.T) {
	var b strings.Builder
	b.WriteString(`{"openapi":"3.0.0","components":{"schemas":{"Self":{"type":"object","properties":{"name":{"type":"string"}`)
	for i := range 40 {
		fmt.Fprintf(&b, `,"c%d":{"$ref":"#/components/schemas/Self"}`, i)
	}
	b.WriteString(`}}}},"paths":{"/x":{}`)
	for i := range 300 {
		fmt.Fprintf(&b, `,"/r%d/{id}":{"get":{"summary":"List repositories","responses":{"200":{"content":{"application/json":{"schema":{"$ref":"#/components/schemas/Self"}}}}}}}`, i)
	}
	b.WriteString("}}")
	root, err := Read([]byte(b.String()))
	require.NoError(t, err)
	_, why := FromOpenAPI(root, nil)
	assert.Empty(t, why)
}

func TestDocumentsThatAreNone(t *testing.T) {
	for _, bad := range []string{"", "[1]", "a: [", "openapi: 2.0\npaths: {}", "openapi: 3.0.0"} {
		root, err := Read([]byte(bad))
		if err == nil {
			_, why := FromOpenAPI(root, nil)
			assert.NotEmpty(t, why, bad)
		}
	}
	// References in a circle, keys that are numbers, a depth without end.
	deep := strings.Repeat("{a: ", 200) + "1" + strings.Repeat("}", 200)
	for _, odd := range []string{"openapi: 3.0.0\npaths: {/x: {get: {responses: {200: {$ref: '#/paths'}}}}}", "openapi: 3.0.0\npaths: {/x: {$ref: '#/paths/~1x'}}",
		"openapi: 3.0.0\npaths: {/x: {get: {parameters: [1, {name: 3}], responses: " + deep + "}}}",
		"openapi: 3.0.0\ninfo: {title: \"\\u001b[31m \\\"]\\a\\0\\x85\"}\npaths: {'/a\"b\\a': {get: {summary: 'list repo', responses: {200: {content: {application/json: {schema: {type: array, items: {type: object, properties: {'@id': {type: string}, 'of owner': {type: string}, owner: {type: string}, \"na'me\": {type: string}, name: {type: string}, about: {type: string}, main: {type: string}}}}}}}}}}}"} {
		root, err := Read([]byte(odd))
		require.NoError(t, err, odd)
		d, why := FromOpenAPI(root, nil)
		require.Empty(t, why)
		_, mistakes := description.Load([]byte(d.Text))
		for _, m := range mistakes {
			assert.NotContains(t, m.Says, "toml", "%s: what is written is TOML", odd)
		}
	}
}

func FuzzFromOpenAPI(f *testing.F) {
	for _, name := range []string{"gannet", "petrel", "fulmar"} {
		data, err := os.ReadFile("../../practice/openapi/" + name + ".yaml")
		require.NoError(f, err)
		f.Add(data)
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		root, err := Read(data)
		if err != nil {
			return
		}
		d, why := FromOpenAPI(root, nil)
		if why != "" {
			return
		}
		var tree map[string]any
		if err := toml.Unmarshal([]byte(d.Text), &tree); err != nil {
			t.Fatalf("the draft is not TOML: %v\n%s", err, d.Text)
		}
	})
}
