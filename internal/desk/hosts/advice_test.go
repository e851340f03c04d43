package hosts

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"uncinate/internal/core/description"
	"uncinate/internal/core/survey"
)

func TestLimitsOfADescription(t *testing.T) {
	h := &Host{Name: "skua", Description: &description.Description{Limits: map[string]any{"file_size": "100 MiB", "push_size": "2 GB", "repository_size": 5}}}
	assert.Equal(t, survey.Limits{Host: "skua", File: 100 << 20, Push: 2_000_000_000}, LimitsOf(h))
}
