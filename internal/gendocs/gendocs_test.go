package gendocs_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/internal/gendocs"
)

func TestDocsAreWhatTheProgramSays(t *testing.T) {
	files, err := gendocs.Files("../..")
	require.NoError(t, err)
	for name, want := range files {
		got, err := os.ReadFile(filepath.Join("../../docs", name))
		require.NoError(t, err, "run: go generate ./...")
		assert.Equal(t, want, string(got), "docs/%s is stale; run: go generate ./...", name)
		if strings.HasPrefix(name, "checks/") {
			title, _, _ := strings.Cut(want, "\n")
			assert.Greater(t, len(want), 4*len(title))
		}
	}
	pages, err := filepath.Glob("../../docs/checks/*.md")
	require.NoError(t, err)
	for _, p := range pages {
		assert.Contains(t, files, "checks/"+filepath.Base(p), "the page of a check that is no more")
	}
}

func TestPhrasebooksMeetTheSchema(t *testing.T) {
	books, err := jsonschema.NewCompiler().Compile("../../docs/schema/phrasebook.schema.json")
	require.NoError(t, err)
	for _, pattern := range []string{"../../demo/estate/phrasebooks/*.yaml", "../../read/phrasebook/testdata/*.yaml"} {
		files, err := filepath.Glob(pattern)
		require.NoError(t, err)
		require.NotEmpty(t, files)
		for _, file := range files {
			text, err := os.ReadFile(file)
			require.NoError(t, err)
			var v any
			require.NoError(t, yaml.Unmarshal(text, &v))
			assert.NoError(t, books.Validate(v), file)
		}
	}
	assert.Error(t, books.Validate(map[string]any{"language": "x"}))
}

func TestEveryEmbeddedBaselineMeetsTheSchema(t *testing.T) {
	schema, err := jsonschema.NewCompiler().Compile("../../docs/schema/baseline.schema.json")
	require.NoError(t, err)
	embedded, err := filepath.Glob("../../baseline/data/*.yaml")
	require.NoError(t, err)
	require.NotEmpty(t, embedded)
	for _, file := range embedded {
		text, err := os.ReadFile(file)
		require.NoError(t, err)
		var v any
		require.NoError(t, yaml.Unmarshal(text, &v))
		assert.NoError(t, schema.Validate(v), file)
	}
	assert.Error(t, schema.Validate(map[string]any{"name": "x", "limitz": map[string]any{}}))
	assert.Error(t, schema.Validate(map[string]any{"name": "x", "demands": map[string]any{"pfs": map[string]any{"level": "PERHAPS"}}}))
}
