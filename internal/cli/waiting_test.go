package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"toril/internal/progress"
)

// TestLongWorkSaysHowFarItIs, and a short one says nothing; what was said is wiped.
func TestLongWorkSaysHowFarItIs(t *testing.T) {
	var c progress.Counts
	var out bytes.Buffer
	stop := make(chan struct{})
	close(stop)
	tell(&out, &c, stop)
	assert.Empty(t, out.String())

	stop, done := make(chan struct{}), make(chan struct{})
	c.Files.Store(41)
	go func() {
		defer close(done)
		tell(&out, &c, stop)
	}()
	time.Sleep(quick + 2*tick)
	close(stop)
	<-done
	assert.Contains(t, out.String(), "reading: 41 files")
	assert.True(t, strings.HasSuffix(out.String(), "\r\x1b[K"), "%q", out.String())

	c.WorkOf.Store(100)
	c.Tunnels.Store(60)
	c.Work.Store(25)
	c.Findings.Store(7)
	assert.Equal(t, "judging: 25 of 100 gateways and tunnels, 60 tunnels, 7 findings so far, about 30 s left", far(&c, 10*time.Second))
	c.Work.Store(100)
	assert.NotContains(t, far(&c, 10*time.Second), "left")
}

// TestNothingIsSaidWhereNobodyWaits: neither stream is a terminal here.
func TestNothingIsSaidWhereNobodyWaits(t *testing.T) {
	var out, errs bytes.Buffer
	assert.Zero(t, Main([]string{"demo"}, strings.NewReader(""), &out, &errs))
	assert.Empty(t, errs.String())
	assert.NotContains(t, out.String(), "\r")
}
