package description

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/pelletier/go-toml/v2"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTheSpecimenHasEveryKey holds the page of the language to the loader: whatever that asks for is told of, and nothing else.
func TestTheSpecimenHasEveryKey(t *testing.T) {
	kinds, mistakes := asked()
	for _, m := range mistakes {
		assert.Fail(t, m.String())
	}
	told := map[string]bool{}
	for _, k := range Keys() {
		assert.NotEmpty(t, k.Kind, "%s %s", k.Table, k.Name)
		assert.NotEmpty(t, k.Says)
		told[k.Table+" "+k.Name] = true
	}
	// Tables are told of by their keys, and what an exchange has of a request is told of there.
	for at, kind := range kinds {
		table, key, _ := strings.Cut(at, " ")
		if kind == "table" || kind == "list of tables" || table == "signin.exchange" && told["action.*.request "+key] || strings.HasPrefix(table, "signin.exchange.") {
			continue
		}
		assert.True(t, told[at], "the specimen has no %q (%s)", at, kind)
	}
	require.Greater(t, len(told), 110)
}

func TestEachFieldAndVariableIsExplained(t *testing.T) {
	for _, name := range Fields {
		assert.NotEmpty(t, FieldSays[name][1], "words.go does not say what the field %s is", name)
	}
	for _, name := range Variables {
		assert.NotEmpty(t, VariableSays[name], "words.go does not say what the variable %s is", name)
	}
	for name := range FieldSays {
		assert.Contains(t, Fields, name)
	}
	for name := range VariableSays {
		assert.Contains(t, Variables, name)
	}
}

// TestDescriptionsFitTheSchema holds the schema to the descriptions that work, and to some that cannot.
func TestDescriptionsFitTheSchema(t *testing.T) {
	data, err := json.Marshal(Schema())
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(data)))
	require.NoError(t, err)
	c := jsonschema.NewCompiler()
	require.NoError(t, c.AddResource("description.json", doc))
	schema, err := c.Compile("description.json")
	require.NoError(t, err)
	fits := func(text string) error {
		var tree any
		require.NoError(t, toml.Unmarshal([]byte(text), &tree))
		data, err := json.Marshal(tree)
		require.NoError(t, err)
		in, err := jsonschema.UnmarshalJSON(strings.NewReader(string(data)))
		require.NoError(t, err)
		return schema.Validate(in)
	}
	files, err := filepath.Glob("../../../descriptions/*.toml")
	require.NoError(t, err)
	faces, err := filepath.Glob("../../../e2e/testdata/faces/*.toml")
	require.NoError(t, err)
	require.Len(t, faces, 4)
	for _, file := range append(files, faces...) {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		assert.NoError(t, fits(string(text)), file)
	}
	assert.NoError(t, fits(specimen))
	for _, bad := range []string{"nmae = \"x\"", "[action.identfy]\nby = \"page\"", "[[refusal]]\nmeans = \"gone\"", "[[action.identify.request]]\nurl = 3", "[[action.identify.request]]\nurl = \"x\"\nread = { usr = \"$.a\" }"} {
		assert.Error(t, fits(small+bad), bad)
	}
}

// TestExamplesOfThePage loads every example of docs/host-descriptions.md.
func TestExamplesOfThePage(t *testing.T) {
	page, err := os.ReadFile("../../../docs/host-descriptions.md")
	require.NoError(t, err)
	blocks := map[string]int{}
	for _, block := range strings.Split(string(page), "\n\n") {
		if !strings.HasPrefix(block, "    ") || strings.HasPrefix(block, "    uncinate ") {
			continue
		}
		block = strings.ReplaceAll("\n"+block, "\n    ", "\n")
		blocks[block]++
	}
	// Parts of one example stand apart by an empty line.
	whole := "language = 1\nname     = \"skua\"\nbase     = \"https://skua.example\"\n"
	loaded := 0
	for block := range blocks {
		text := strings.TrimSpace(block)
		switch {
		case strings.HasPrefix(text, "language"):
			text += "\n[address]\nhttps = \"{+base}/{owner}/{name}.git\"\n"
		case strings.HasPrefix(text, "[address]"):
			text = whole + text
		case strings.HasPrefix(text, "json"):
			text = small + "[[action.identify.request]]\nmethod = \"POST\"\nurl = \"{+base}/me\"\n" + text
		case !strings.HasPrefix(text, "["):
			text = small + "[shape.repository]\n" + text
		default:
			text = small + text
		}
		if strings.Contains(text, `read    = "repository"`) || strings.Contains(text, `read = "repository"`) {
			text += "\n[shape.repository]\nid = \"$.id\"\n"
		}
		_, mistakes := Load([]byte(text))
		assert.Empty(t, mistakes, text)
		loaded++
	}
	assert.GreaterOrEqual(t, loaded, 11)
}
