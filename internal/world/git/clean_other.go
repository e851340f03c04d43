//go:build portable || !linux

package git

import "context"

// SurelyClean is not known here: git is asked.
func (r *Repo) SurelyClean(context.Context, []Setting, string) bool { return false }
