//go:build lab

// Package pack builds the packages twice, from two folders, and looks at what is in them.
package pack

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
)

// arches are those that are built: one here, both with TORIL_LAB_CASES.
func arches() []string {
	if os.Getenv("TORIL_LAB_CASES") == "" {
		return []string{"amd64"}
	}
	return []string{"amd64", "arm64"}
}

// built copies the sources into a folder of a name and builds the packages there. It returns the sums of all of them.
func built(t *testing.T, name string) (folder, sums string) {
	dir := filepath.Join(t.TempDir(), name)
	require.NoError(t, os.CopyFS(dir, os.DirFS("../..")))
	cmd := exec.Command("packaging/build", "out")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "SOURCE_DATE_EPOCH=1790000000", "ARCHES="+strings.Join(arches(), " "))
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, string(out))
	data, err := os.ReadFile(filepath.Join(dir, "out", "toril-0.1.0.sha256"))
	require.NoError(t, err)
	return filepath.Join(dir, "out"), string(data)
}

func TestTwoBuildsHaveTheSameBytes(t *testing.T) {
	lab.Need(t, "dpkg-deb", "dpkg")
	folder, first := built(t, "here")
	_, second := built(t, "there/and/elsewhere")
	assert.Equal(t, first, second)
	assert.Equal(t, 2*len(arches()), strings.Count(first, "\n"))
	list, err := exec.Command("dpkg-deb", "-c", filepath.Join(folder, "toril_0.1.0_amd64.deb")).Output()
	require.NoError(t, err)
	for _, want := range []string{"./usr/bin/toril", "man1/toril-audit.1.gz", "bash-completion/completions/toril", "toril.cdx.json",
		"copyright"} {
		assert.Contains(t, string(list), want)
	}
	root := t.TempDir()
	require.NoError(t, exec.Command("dpkg-deb", "-x", filepath.Join(folder, "toril_0.1.0_amd64.deb"), root).Run())
	out, err := exec.Command(filepath.Join(root, "usr/bin/toril"), "version").Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "toril 0.1.0")
	fmt.Println("lab: pack:", 2*len(arches()), "packages, the same bytes from two folders")
}
