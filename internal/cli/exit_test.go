package cli_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestExitCodes: 0 for a clean answer, 1 for findings or files that could not be read, 2 for a wrong question.
func TestExitCodes(t *testing.T) {
	dir := t.TempDir()
	estate := filepath.Join(dir, "estate")
	code, _, errs := toril(t, "demo", "--to", estate)
	require.Zero(t, code, errs)
	clean := filepath.Join(dir, "clean")
	require.NoError(t, os.CopyFS(filepath.Join(clean, "headland"), os.DirFS(filepath.Join(estate, "headland"))))
	require.NoError(t, os.CopyFS(filepath.Join(clean, "skerry"), os.DirFS(filepath.Join(estate, "skerry"))))
	broken := filepath.Join(dir, "broken.conf")
	require.NoError(t, os.WriteFile(broken, []byte("connections {\n a {\n"), 0o644))
	empty := filepath.Join(dir, "empty")
	require.NoError(t, os.Mkdir(empty, 0o755))

	for _, c := range []struct {
		args string
		code int
		says string // on either stream
	}{
		{"audit ESTATE", 1, "62 findings"},
		{"audit ESTATE --fail-on critical", 1, "3 critical"},
		{"audit CLEAN", 0, "2 gateways"},
		{"audit CLEAN --fail-on info", 1, "ike/quantum"},
		{"audit ESTATE/headland", 0, "1 gateway"},
		{"audit BROKEN", 1, "is not closed"},
		{"audit EMPTY", 2, "nothing could be read"},
		{"audit NOWHERE", 2, "nothing could be read"},
		{"audit", 2, "needs"},
		{"audit ESTATE --fail-on hihg", 2, "hihg"},
		{"audit ESTATE --at-least nothing", 2, "nothing"},
		{"audit ESTATE --format yaml", 2, `unknown format "yaml"; known are: text, markdown, json, html, sarif, junit, csv`},
		{"audit ESTATE --baseline sonud", 2, "sonud"},
		{"audit ESTATE --as-of yesterday", 2, "yesterday"},
		{"audit ESTATE --as nftalbes", 2, `did you mean "nftables"`},
		{"audit CLEAN --baseline cnsa2 --fail-on high", 1, "CNSA"},
		{"ends CLEAN", 0, "comes up"},
		{"ends ESTATE", 1, "fails"},
		{"ends CLEAN --only-differences", 0, "both ends match"},
		{"ends CLEAN --format xml", 2, "xml"},
		{"tunnels ESTATE", 0, "IKE proposals"},
		{"tunnels ESTATE --format json", 0, "toril-tunnels/1"},
		{"mirror lampwright/quayside ESTATE", 0, "# far end of lampwright/quayside"},
		{"sheet lampwright/quayside ESTATE", 0, "Tunnel of lampwright/quayside to quayside"},
		{"sheet lampwright ESTATE --since ESTATE", 0, "nothing that concerns this tunnel"},
		{"sheet lampwright/nobody ESTATE", 2, "nobody"},
		{"sheet", 2, "needs"},
		{"keys ESTATE", 0, "Keys and certificates as of"},
		{"observed ESTATE", 0, "headland/skerry"},
		{"fix ESTATE --check nat", 1, "fixed"},
		{"fix ESTATE --check nat/rewritten --gateway lampwright", 0, "+++ b/"},
		{"fix ESTATE --check papyrus", 2, "papyrus"},
		{"fix ESTATE --finding ffffffffffff", 2, "no finding is meant"},
		{"fix -", 2, "standard input cannot be read again"},
		{"mirror lampwright/quayside ESTATE --write swanctl", 0, "connections {"},
		{"mirror lampwright/nobody ESTATE", 2, "nobody"},
		{"mirror lampwright/quayside ESTATE --write papyrus", 2, "papyrus"},
		{"mirror", 2, "needs"},
		{"follow CLEAN --gateway skerry --from 10.20.0.9 --to 10.30.0.9:443", 0, "the reply returns"},
		{"follow CLEAN --gateway skerry --from 10.20.0.9 --to 2001:db8::1", 2, "different families"},
		{"follow CLEAN --gateway skerry --from 10.20.0.9", 2, "toril follow needs --to"},
		{"follow CLEAN --gateway skerry --from 10.20.0.9 --to 10.30.0.9 --protocol tpc", 2, "tpc"},
		{"follow BROKEN --from 10.20.0.9 --to 10.30.0.9", 1, "leaves"},
		{"checks", 0, "pfs/absent"},
		{"explain pfs/absent", 0, "RFC"},
		{"explain pfs/absnet", 2, `did you mean "pfs/absent"`},
		{"baseline list", 0, "cnsa2"},
		{"baseline show sound", 0, "AES"},
		{"baseline compare rfc bsi", 0, "bsi"},
		{"baseline show nosuch", 2, "nosuch"},
		{"formats", 0, "swanctl.conf"},
		{"formats --explain BROKEN", 0, "swanctl.conf"},
		{"audit ESTATE --as nftables", 2, "no PATH is"},
		{"ends CLEAN --gateway x", 2, "no PATH is"},
		{"audit /dev/zero", 2, "it is a device"},
		{"formats --explain /dev/zero", 2, "it is a device"},
		{"audit ESTATE --baseline ./nowhere.yaml", 2, "cannot be read"},
		{"mirror lampwright/quayside ESTATE --format json", 2, "there is no flag of toril mirror"},
		{"demo --to=", 2, "needs a folder"},
		{"demo --to NOWHERE --format json", 2, "no meaning"},
		{"baseline compare nist", 2, "needs another NAME"},
		{"explain pfs/absent pfs/optional", 2, "one too many"},
		{"version now", 2, "takes no arguments"},
		{"frobnicate", 2, "there is no command or folder"},
		{"adit", 2, `did you mean "audit"`},
		{"", 0, "toril FOLDER"},
		{"CLEAN", 0, "2 gateways"},
		{"ESTATE", 1, "62 findings"},
		{"changes CLEAN CLEAN", 0, "nothing has changed"},
		{"changes CLEAN ESTATE --fail-on new", 1, "gateway added"},
		{"changes CLEAN ESTATE --fail-on old", 2, "there is no condition"},
		{"changes CLEAN", 2, "needs NEW"},
		{"except abcd ESTATE --reason r --owner o --until 2027-01-01", 2, "there is no finding"},
		{"except ab ESTATE --reason r --owner o --until 2027-01-01", 2, "too short"},
		{"audit ESTATE -o x.odt", 2, "no form is known by the ending"},
		{"audit ESTATE -o a.json -o b.json --format json", 2, "--format names one form"},
		{"audit ESTATE -o /nowhere/x.json", 2, "cannot be written"},
		{"audit ESTATE --exceptions nowhere.yaml", 2, "cannot be read"},
		{"--version", 0, "toril"},
	} {
		line := strings.NewReplacer("ESTATE", estate, "CLEAN", clean, "BROKEN", broken, "EMPTY", empty, "NOWHERE",
			filepath.Join(dir, "nowhere")).
			Replace(c.args)
		code, out, errs := toril(t, strings.Fields(line)...)
		assert.Equal(t, c.code, code, "toril %s\n%s", c.args, errs)
		assert.Contains(t, out+errs, c.says, "toril %s", c.args)
		assert.NotContains(t, out+errs, "panic", c.args)
		if c.code == 2 {
			assert.NotEmpty(t, errs, "a wrong question is answered on standard error: toril %s", c.args)
		}
	}
}
