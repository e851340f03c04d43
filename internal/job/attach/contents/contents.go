// Package contents is what an attach writes into the folder before the first commit: a readme, a
// licence, and the rules for large-file storage. Each is taken out again when the attach is put
// back, unless somebody changed it since.
package contents

import (
	"uncinate/internal/desk"
	"uncinate/internal/job/attach/target"
)

// Contents are files that an attach writes before the first commit, or keeps in large-file
// storage.
type Contents struct {
	*target.Target
	Large *largeFiles // nil where no large-file storage is used
	First []firstFile // written before the first commit
}

// BareSteps are what can be said of the steps of this room without a plan.
func (c *Contents) BareSteps() []desk.Step { return []desk.Step{c.bareFirst(), c.bareLarge()} }
