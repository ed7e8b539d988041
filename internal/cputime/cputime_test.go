package cputime_test

import (
	"crypto/sha256"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"toril/internal/cputime"
)

// TestSpent: work spends time, and waiting spends next to none.
func TestSpent(t *testing.T) {
	begin := cputime.Spent()
	time.Sleep(200 * time.Millisecond)
	waited := cputime.Spent() - begin
	assert.Less(t, waited, 150*time.Millisecond)
	sum := sha256.Sum256(nil)
	for cputime.Spent()-begin-waited < 20*time.Millisecond { // ends, as work spends time
		sum = sha256.Sum256(sum[:])
	}
}
