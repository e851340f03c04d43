package many

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"uncinate/internal/core/description"
	"uncinate/internal/job/repositories"
)

// TestMeans holds which repositories a word stands for.
func TestMeans(t *testing.T) {
	r := repositories.Repository{Account: "tern", Host: "gannet", Repository: description.Repository{Owner: "coast/north", Name: "Tide-Almanac", HTTPS: "https://gannet.example/coast/north/Tide-Almanac.git"}}
	for word, want := range map[string]bool{"tide-almanac": true, "coast/north/Tide-Almanac": true, "*Alm*": true, "coast/north/*": true, "coast/north/": true, "coast/": true, "coas/": false, "almanac": false,
		"https://gannet.example/coast/north/Tide-Almanac": true, "https://gannet.example/coast/north/other": false, "[": false, "coast/*": false} {
		assert.Equal(t, want, isMeant(nil, word, r), word)
	}
	assert.Equal(t, []string{"coast", "north"}, eachFolder("coast/north"))
	rows := []Row{{Folder: "/a/x/gauge"}, {Folder: "/a/y/gauge"}, {Folder: "/b/y/gauge"}, {Folder: "/b/buoys"}}
	shortest(rows)
	assert.Equal(t, []string{"x/gauge", "a/y/gauge", "b/y/gauge", "buoys"}, []string{rows[0].Name, rows[1].Name, rows[2].Name, rows[3].Name})
}
