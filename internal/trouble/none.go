//go:build !trouble

package trouble

// At is where a process may be killed on purpose; in this program never.
func At(string) {}
