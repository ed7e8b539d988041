package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestAMadeEstate(t *testing.T) {
	dir := t.TempDir()
	to, faults := filepath.Join(dir, "many"), filepath.Join(dir, "faults.csv")
	code, out, errs := toril(t, "demo", "--to", to, "--gateways", "120", "--seed", "3", "--faults", faults)
	require.Zero(t, code, errs)
	assert.Contains(t, out, "120 gateways with ")
	text, err := os.ReadFile(faults)
	require.NoError(t, err)
	rows := strings.Split(strings.TrimSpace(string(text)), "\n")
	assert.Equal(t, "check,gateway,tunnel", rows[0])
	assert.Greater(t, len(rows), 5)
	_, found, _ := toril(t, "audit", to, "--format", "csv", "--at-least", "low")
	for _, row := range rows[1:] {
		check, _, _ := strings.Cut(row, ",")
		assert.Contains(t, found, check)
	}

	for says, args := range map[string][]string{
		"with --to":                    {"--gateways", "3"},
		"with --gateways":              {"--seed", "3"},
		"of 1 to 120000 gateways":      {"--gateways", "0", "--to", filepath.Join(dir, "none")},
		"is not empty; nothing was wr": {"--gateways", "3", "--to", to},
		"has no meaning with it":       {"--gateways", "3", "--to", filepath.Join(dir, "none"), "--all"},
	} {
		code, out, errs := toril(t, append([]string{"demo"}, args...)...)
		assert.Equal(t, 2, code, says)
		assert.Empty(t, out, says)
		assert.Contains(t, errs, says)
	}
	left, err := os.ReadDir(filepath.Join(dir, "none"))
	if err == nil {
		assert.Empty(t, left, "all of it or nothing")
	}
}
