package secrets

import (
	"bytes"
	"math/rand/v2"
	"strings"
	"testing"
)

func BenchmarkRead(b *testing.B) {
	random := rand.New(rand.NewPCG(11, 12))
	words := strings.Fields("tide level pier skerry gauge reading station rising falling return if for int float string := == { } ( ) [ ] ; , . + - * / token secret password key name value error nil true false harbour mooring buoy channel depth metres hour minute day")
	var data []byte
	for len(data) < 1<<20 {
		data = append(data, words[random.IntN(len(words))]...)
		data = append(data, " \n"[min(1, random.IntN(9)/8)])
	}
	f := New([]string{"/home/tern", "/tmp/bench/large"}, []string{"plunge~"})
	buf := Buffer()
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		if _, err := f.Read("a.toml", bytes.NewReader(data), buf); err != nil {
			b.Fatal(err)
		}
	}
}
