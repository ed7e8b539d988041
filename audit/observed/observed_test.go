package observed_test

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit/observed/observedtest"
)

// TestRecordedStatus reads status that was saved from real daemons after real negotiations (lab/status), and finds what was done to them,
// and nothing else.
func TestRecordedStatus(t *testing.T) {
	names, err := os.ReadDir("testdata/recorded")
	require.NoError(t, err)
	require.NotEmpty(t, names)
	for _, n := range names {
		t.Run(n.Name(), func(t *testing.T) {
			assert.Empty(t, observedtest.Differences(t, filepath.Join("testdata/recorded", n.Name())))
		})
	}
}
