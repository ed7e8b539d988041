package memory

import (
	"bufio"
	"bytes"
	"fmt"
	"math"
	"os"
	"runtime/debug"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// advised is how many bytes of the process are to be in large pages.
func advised(t *testing.T) (sum int64) {
	data, err := os.ReadFile("/proc/self/smaps")
	require.NoError(t, err)
	size := int64(0)
	for s := bufio.NewScanner(bytes.NewReader(data)); s.Scan(); {
		if fmt.Sscanf(s.Text(), "Size: %d kB", &size); strings.HasPrefix(s.Text(), "VmFlags:") && strings.Contains(s.Text()+" ", " hg ") {
			sum += size << 10
		}
	}
	return sum
}

func TestLargeRunsTakeLargePages(t *testing.T) {
	if !advisable() {
		t.Skip("this kernel does not leave it to programs")
	}
	limited(t)
	paged = sync.Once{}
	before := advised(t)
	Expect(1000, 16<<20)
	assert.Equal(t, before, advised(t), "nobody asked for a limit")

	Limit()
	Expect(1, 1<<20)
	assert.Equal(t, before, advised(t), "a small file is not worth it")
	Expect(1000, 16<<20)
	assert.GreaterOrEqual(t, advised(t), int64(most*9/10), "but for what was there already")
	taken := advised(t)
	Expect(1000, math.MaxInt64)
	assert.Equal(t, taken, advised(t), "once")

	assert.Eventually(t, func() bool { return !uncounted.Load() }, 10*time.Second, time.Millisecond)
	assert.Equal(t, int64(small), now(), "the limit is what it was")
	assert.Equal(t, first, debug.SetGCPercent(first), "memory was not cleared for want of it")
}
