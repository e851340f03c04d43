//go:build portable || (!linux && !darwin)

package files

import "errors"

func exchange(string, string) error { return errors.ErrUnsupported }

func moveNew(string, string) error { return errors.ErrUnsupported }
