package desk

import (
	"context"

	"uncinate/internal/core/plan"
)

// Planned is work that was looked at and planned, and holds what the look took hold of, such as
// the folder's lock: it is shown by its items and then done, by its own Do, or given up.
type Planned interface {
	Items() []plan.Item // what will be done, in order; empty where nothing is to be done
	Release() error     // gives the plan up; after Do it changes nothing
}

// Plan is planned work of which nothing comes but that it is done.
type Plan interface {
	Planned
	Do(ctx context.Context) error
}
