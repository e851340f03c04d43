package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// mostCorrections is how many values of a draft a person may have to correct.
const mostCorrections = 10

// correction puts a text in the place of another that is there once, and so changes or adds some values.
type correction struct {
	values  int
	is, fit string
}

// drafted has a description drafted from the face's OpenAPI document, corrects it, and writes it.
func (f *facade) drafted(m *machine, document string, put []string, corrections ...correction) string {
	f.t.Helper()
	data, err := os.ReadFile(filepath.Join("testdata/faces", document))
	require.NoError(f.t, err)
	m.write("", map[string]string{document: strings.NewReplacer(append(put, "https://"+f.name+".example", f.URL)...).Replace(string(data))})
	draft := m.ok("", "", "host", "draft", document)
	values := 0
	for _, c := range corrections {
		values += c.values
		require.Equal(f.t, 1, strings.Count(draft, c.is), "%s\n%s", c.is, draft)
		draft = strings.Replace(draft, c.is, c.fit, 1)
	}
	require.LessOrEqual(f.t, values, mostCorrections)
	m.write("", map[string]string{f.name + ".toml": draft})
	return f.name + ".toml"
}

// TestDraftedTenants plays with a draft of a document that says little.
func TestDraftedTenants(t *testing.T) {
	t.Parallel()
	f, m := newMole(t), person(t, "tern")
	f.play(m, f.drafted(m, "mole.openapi.yaml", nil))
}

// TestDraftedLinks plays with a draft of a host with a cookie, one-time values and times of its own.
func TestDraftedLinks(t *testing.T) {
	t.Parallel()
	_, f := newWeir(t)
	m := person(t, "tern")
	f.play(m, f.drafted(m, "weir.openapi.yaml", nil))
	assert.Contains(t, m.ok("", "", "account", "list"), "2027-02-03", "the time was read in the host's zone")
}

// TestDraftedOrigins plays with a draft of a host at two origins, whose document is put together by references.
func TestDraftedOrigins(t *testing.T) {
	t.Parallel()
	x, m := newSluice(t), person(t, "tern")
	x.f.play(m, x.f.drafted(m, "sluice.openapi.json", []string{"https://water.sluice.example", x.other.URL}))
	assert.NotEmpty(t, x.jobs)
}

// TestDraftedQueries plays with a draft of a document that shows the queries of one address by examples.
func TestDraftedQueries(t *testing.T) {
	t.Parallel()
	f, m := newIslet(t), person(t, "tern")
	f.play(m, f.drafted(m, "islet.openapi.yaml", nil))
}
