package suite_test

import (
	"context"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/audit/suite"
	"toril/baseline"
	"toril/estate"
	"toril/pair"
	"toril/read/formats"
)

// TestEvidenceIsTheElement: where one proposal of a list is weak, the evidence is its bytes; where several are, those of the setting.
func TestEvidenceIsTheElement(t *testing.T) {
	for format, c := range map[string]struct{ file, text string }{
		"swanctl.conf": {"g/swanctl.conf", "connections {\n a {\n  remote_addrs = 192.0.2.1\n" +
			"  proposals = aes256-sha256-ecp384, 3des-sha1-modp1024 # old\n  children {\n   n {\n    remote_ts = 10.2.0.0/16\n" +
			"    esp_proposals = 3des-sha1,des-md5\n   }\n  }\n }\n}\n"},
		"ipsec.conf": {"g/ipsec.conf", "conn a\n\tleft=192.0.2.2\n\tright=192.0.2.1\n\tauto=add\n\tkeyexchange=ikev2\n\tmargintime=9m\n" +
			"\tike=aes256-sha256-ecp384,3des-sha1-modp1024!\n\tesp=3des-sha1,des-md5!\n"},
	} {
		e, err := pair.LoadFS(context.Background(), fstest.MapFS{c.file: {Data: []byte(c.text)}}, estate.Options{Formats: formats.All()})
		require.NoError(t, err)
		require.Empty(t, e.Problems)
		b, err := baseline.Named(baseline.Default)
		require.NoError(t, err)
		r, err := audit.Run(context.Background(), e, suite.All(), b, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC))
		require.NoError(t, err)
		said := map[string]string{}
		for _, f := range r.Findings {
			said[f.Check] = c.text[f.At.Start:f.At.End]
		}
		assert.Equal(t, "3des-sha1-modp1024", said["ike/downgrade"], format)
		assert.Contains(t, said["esp/weak-algorithm"], "3des-sha1,des-md5", format)
	}
}
