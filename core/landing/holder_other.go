//go:build !linux

package landing

// holder is known on Linux only.
func holder(string) string { return "" }
