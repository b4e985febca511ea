package database

import (
	"sync/atomic"
	"time"
)

// Writes counts what was written to a file and brought to the disk, and the time that it took in all.
type Writes struct{ count, took atomic.Int64 }

// Since counts one that was begun at an instant.
func (w *Writes) Since(begun time.Time) {
	w.count.Add(1)
	w.took.Add(int64(time.Since(begun)))
}

// Read gives how many there were, and how long they took together.
func (w *Writes) Read() (count int64, took time.Duration) {
	return w.count.Load(), time.Duration(w.took.Load())
}
