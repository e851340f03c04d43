package fault

import (
	"context"
	"errors"
	"fmt"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestKindsSurviveWrapping(t *testing.T) {
	under := errors.New("underneath")
	f := New(HostSaidNo, "the host %s refused", "gannet").Because(under).Detail("it says %d", 1).Try("go on", "uncinate sync")
	wrapped := fmt.Errorf("while attaching: %w", errors.Join(errors.New("other"), f))
	assert.Same(t, f, Of(wrapped))
	assert.True(t, Is(wrapped, HostSaidNo))
	assert.False(t, Is(nil, Failed))
	assert.ErrorIs(t, wrapped, under)
	assert.Equal(t, "the host gannet refused", f.Error())
	assert.Equal(t, []string{"it says 1"}, f.Details)
	for want, err := range map[int]error{0: nil, 1: under, 5: wrapped, 130: fmt.Errorf("x: %w", context.Canceled), 4: New(Refused, "no"), 2: New(Usage, "no"), 3: New(Decision, "?"), 6: New(Unreachable, "far")} {
		assert.Equal(t, want, ExitCode(err))
	}
	assert.Nil(t, Of(nil))
}
