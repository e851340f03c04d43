//go:build portable || !linux

package openfiles

// All knows nothing here: the system does not tell without help.
func All() (found map[string]Process, known bool) { return nil, false }

// Working knows nothing here.
func Working(string) (found []Process, known bool) { return nil, false }
