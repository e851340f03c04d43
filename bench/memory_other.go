//go:build portable || !unix

package main

import "os"

// memoryOf is not told here.
func memoryOf(*os.ProcessState) int64 { return 0 }

// forgetPeak has nothing to forget.
func forgetPeak() error { return nil }
