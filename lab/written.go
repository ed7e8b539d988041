//go:build lab

package lab

import (
	"os"
	"time"
)

// Written is a log that a daemon writes while it is looked at.
type Written struct {
	Path string
	read int64
}

// Log returns what was written since the last Mark.
func (w *Written) Log() string {
	data, _ := os.ReadFile(w.Path)
	return string(data[min(w.read, int64(len(data))):])
}

// Mark makes Log begin here.
func (w *Written) Mark() {
	if info, err := os.Stat(w.Path); err == nil {
		w.read = info.Size()
	}
}

// Anew has the log begin anew.
func (w *Written) Anew() {
	_ = os.Remove(w.Path)
	w.read = 0
}

// Wait polls the log until it says that something is over, and a little longer; or until the time is up.
func (w *Written) Wait(most time.Duration, over func(log string) bool) {
	for end := time.Now().Add(most); time.Now().Before(end); time.Sleep(10 * time.Millisecond) {
		if over(w.Log()) {
			time.Sleep(80 * time.Millisecond)
			return
		}
	}
}
