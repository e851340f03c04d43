package noise

import (
	"bytes"
	"compress/gzip"
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestIs knows noise by its content, and what could still be made smaller.
func TestIs(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	random := make([]byte, SampleSize)
	for i := range random {
		random[i] = byte(r.Uint32())
	}
	var text, zipped bytes.Buffer
	for i := 0; text.Len() < 8*SampleSize; i++ {
		fmt.Fprintf(&text, "at %d the level was %d, and %x was noted\n", i, r.IntN(1000), r.Uint64())
	}
	w := gzip.NewWriter(&zipped)
	_, err := w.Write(text.Bytes())
	require.NoError(t, err)
	require.NoError(t, w.Close())
	require.Greater(t, zipped.Len(), SampleSize)
	sixBits := make([]byte, SampleSize)
	for i := range sixBits {
		sixBits[i] = "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789+/"[random[i]&63]
	}
	wave := make([]byte, SampleSize)
	for i := range wave { // sound as it is measured
		wave[i] = byte(128 + 90*math.Sin(float64(i)/50) + float64(random[i]&7))
	}
	for what, sample := range map[string][]byte{"random": random, "packed": zipped.Bytes()[:SampleSize]} {
		assert.True(t, Is(sample, false), what)
	}
	for what, sample := range map[string][]byte{"text": text.Bytes()[:SampleSize], "base64": sixBits, "twice the same": append(bytes.Clone(random[:SampleSize/2]), random[:SampleSize/2]...),
		"sound": wave, "zeros": make([]byte, SampleSize), "nothing": nil} {
		assert.False(t, Is(sample, false), what)
	}
	header := append(make([]byte, 256), random[256:]...)
	assert.True(t, Is(header, true))
	assert.Nil(t, Places(Least-1))
	for _, size := range []int64{Least, 60_000, 1 << 30} {
		for _, at := range Places(size) {
			assert.LessOrEqual(t, at+SampleSize, size)
		}
	}
}
