package licences

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestText(t *testing.T) {
	for _, id := range Known() {
		s, err := Text(id, "2025", "Tern of Saltmarsh")
		require.NoError(t, err)
		assert.NotContains(t, s, "{year}")
		assert.NotContains(t, s, "{holder}")
		assert.Greater(t, len(s), 500, id)
	}
	s, err := Text("mit", "2025", "Tern of Saltmarsh")
	require.NoError(t, err)
	assert.Contains(t, s, "Copyright (c) 2025 Tern of Saltmarsh")
	_, err = Text("MID", "", "")
	assert.ErrorContains(t, err, "these are: 0BSD, Apache-2.0")
}
