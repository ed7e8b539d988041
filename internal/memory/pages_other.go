//go:build !linux

package memory

// advise does nothing: only Linux takes advice on the size of pages.
func advise(int64) {}
