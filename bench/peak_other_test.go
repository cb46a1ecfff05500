//go:build !linux

package bench

import "os"

// peak is known on Linux only.
func peak(*os.ProcessState) int64 { return 0 }
