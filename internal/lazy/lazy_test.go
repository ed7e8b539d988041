package lazy_test

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"toril/internal/lazy"
)

func TestRegexp(t *testing.T) {
	re := lazy.Regexp(`^a+$`)
	assert.True(t, re().MatchString("aaa"))
	assert.Same(t, re(), re(), "compiled once")
	assert.False(t, lazy.Match(`^b$`)("a"))
	assert.Panics(t, func() { lazy.Regexp(`(`)() })
}
