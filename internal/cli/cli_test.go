package cli_test

import (
	"bytes"
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/internal/cli"
)

func TestMain(m *testing.M) {
	testscript.Main(m, map[string]func(){"toril": func() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }})
}

func TestScripts(t *testing.T) {
	testscript.Run(t, testscript.Params{Dir: "testdata", RequireExplicitExec: true})
}

// toril runs the command line in this process.
func toril(t *testing.T, args ...string) (code int, out, errs string) {
	var o, e bytes.Buffer
	code = cli.Main(args, strings.NewReader(""), &o, &e)
	return code, o.String(), e.String()
}

func TestJSONMeetsItsSchema(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "estate")
	code, _, errs := toril(t, "demo", "--to", dir)
	require.Zero(t, code, errs)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "lampwright", "broken.conf"), []byte("connections {\n a {\n warble = 1\n"), 0o644))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "long"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "long", "nftables.conf"), []byte("table ip f {\n chain c {\n"+
		"  type filter hook forward priority 0\n"+strings.Repeat("  tcp dport 22 drop\n", 150)+" }\n}\n"), 0o644))
	for schema, args := range map[string][]string{
		"audit.schema.json":    {"audit", "--format", "json", dir},
		"changes.schema.json":  {"changes", "--format", "json", filepath.Join(dir, "lampwright"), dir},
		"defaults.schema.json": {"defaults", "libreswan", "--format", "json"},
		"tunnels.schema.json":  {"tunnels", "--format", "json", dir},
		"ends.schema.json":     {"ends", "--format", "json", dir},
		"observed.schema.json": {"observed", "--format", "json", dir},
		"fix.schema.json":      {"fix", "--check", "nat", "--format", "json", dir},
		"sheet.schema.json":    {"sheet", "--format", "json", "lampwright/quayside", dir},
		"keys.schema.json":     {"keys", "--format", "json", dir},
		"follow.schema.json": {"follow", "--format", "json", "--gateway", "lampwright", "--from", "10.10.0.0/23", "--to",
			"10.40.0.0/22", dir},
	} {
		_, out, _ := toril(t, args...)
		s, err := jsonschema.NewCompiler().Compile("../../docs/schema/" + schema)
		require.NoError(t, err)
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(out))
		require.NoError(t, err)
		assert.NoError(t, s.Validate(v), schema)
	}
}

func TestPlantedSecretShowsNowhere(t *testing.T) {
	const secret = "Xq7PlantedSecretZz"
	dir := t.TempDir()
	text := "connections {\n a {\n version = 1\n local {\n auth = psk\n }\n remote {\n auth = psk\n }\n }\n}\nsecrets {\n ike-a {\n" +
		" secret = SECRET\n }\n private-x {\n secret = \"SECRET\"\n }\n" +
		" unknown {\n thing = SECRET\n pin = SECRET\n }\n}\n"
	require.NoError(t, os.WriteFile(filepath.Join(dir, "swanctl.conf"), []byte(strings.ReplaceAll(text, "SECRET", secret)), 0o644))
	for _, args := range [][]string{{"audit", dir}, {"audit", "--format", "json", dir}, {"tunnels", dir},
		{"tunnels", "--format", "json", dir}, {"ends", dir},
		{"follow", "--from", "10.1.0.1", "--to", "10.2.0.1", dir}} {
		_, out, errs := toril(t, args...)
		assert.NotContains(t, out, secret, args)
		assert.NotContains(t, errs, secret, args)
		if args[0] == "audit" {
			assert.Contains(t, out, "[secret]")
		}
	}
}

func TestSameRunTwiceGivesTheSameBytes(t *testing.T) {
	_, first, _ := toril(t, "demo", "--format", "json")
	_, second, _ := toril(t, "demo", "--format", "json")
	assert.Equal(t, first, second)
	assert.True(t, json.Valid([]byte(first)))
}
