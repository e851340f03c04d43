package histories

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestGraph(t *testing.T) {
	for _, c := range []struct{ commits, want string }{
		{"", ""},
		{"c:b b:a a:", "=/=/="},
		{"m:b,c b:a c:a a:", "=-./= |/| =/=-'"},
		{"m:n,c n:b,a2 c:b a2:a b:a a:", "=-./=-|-./| = |/| | =/=-' |/=---'"},
		{"x:a y:a a:", "=/| =/=-'"},                 // two ends
		{"x:b y:z z: b:a a:", "=/| =/| =/=/="},      // a beginning of its own, whose column is free again
		{"m:a,b k:b b:a a:", "=-./| | =/| =-'/=-'"}, // the line from k comes in at b
		{"k:b m:a,b b:a a:", "=/+-=/= |/=-'"},       // m leads into the line that k began
		{"o:a,b,c a:r b:r c:r r:", "=-.-./= | |/| = |/| | =/=-'-'"},
		{"p:missing q:missing", "=/| ="}, // the list ends before
		{"d:d", "="},
	} {
		var ids []string
		parents := map[string][]string{}
		for _, word := range strings.Fields(c.commits) {
			id, list, _ := strings.Cut(word, ":")
			ids = append(ids, id)
			parents[id] = strings.FieldsFunc(list, func(r rune) bool { return r == ',' })
		}
		assert.Equal(t, c.want, strings.Join(Graph(ids, parents), "/"), c.commits)
	}
	var many []string
	for i := range 100 {
		many = append(many, fmt.Sprint(i))
	}
	last := Graph(append(many, "x"), map[string][]string{"x": many})
	for _, row := range last {
		assert.LessOrEqual(t, len(row), 2*mostLines+2)
	}
}
