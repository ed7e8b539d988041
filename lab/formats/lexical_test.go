//go:build lab

package formats_test

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/lab"
	"toril/lab/cases"
)

// starter loads a file into strongSwan in namespaces of its own, its files in their fixed places, and prints what it holds.
const starter = `mount -t tmpfs tmpfs /run; mount --bind $0 /etc/ipsec.conf; ip link set lo up
ipsec start >/dev/null 2>&1
for i in 1 2 3 4 5 6 7 8 9 10 11 12 13 14 15 16 17 18 19 20; do ipsec statusall 2>/dev/null | grep -q '^Status' && break; sleep 0.1; done
sleep 0.5; ipsec statusall | sed -n '/^Connections/,/^Security/p'; ipsec stop >/dev/null 2>&1`

var loadedBy = regexp.MustCompile(`(?m)^ *(\S+):  (\S+)\.\.\.(\S+)  IKE`)

func byStarter(t *testing.T, file string) string {
	if r := lab.Run(nil, "/usr/lib/ipsec/starter", "--conftest", "--conf", file); r.Failed != nil {
		return "refused"
	}
	r := lab.Run(nil, "unshare", "-n", "-m", "sh", "-c", starter, file)
	var out []string
	for _, m := range loadedBy.FindAllStringSubmatch(r.Out, -1) {
		out = append(out, m[1]+" "+m[2]+"..."+m[3])
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

func byAddconn(root, file string) string {
	env := lab.Libraries(root)
	check := lab.Run(env, root+"/usr/libexec/ipsec/addconn", "--config", file, "--checkconfig")
	if check.Failed != nil {
		return "refused"
	}
	var out []string
	for name, e := range sections(lab.Run(env, root+"/usr/libexec/ipsec/readwriteconf", "--config", file).Out) {
		if strings.Contains(check.Err+check.Out, "while loading '"+name+"'") || name == "%default" {
			continue
		}
		out = append(out, name+" "+e["left"]+"..."+e["right"])
	}
	slices.Sort(out)
	return strings.Join(out, "; ")
}

// TestLexicalRulesOfIPsecConf asks both daemons that have such a file.
func TestLexicalRulesOfIPsecConf(t *testing.T) {
	lab.Need(t, "/usr/lib/ipsec/starter", "strongswan-starter")
	root := lab.Unpacked(t, "libreswan")
	tally := lab.NewTally(t, "lexical rules of ipsec.conf, two daemons")
	dir := t.TempDir()
	var wg sync.WaitGroup
	slots := make(chan bool, 8)
	for i, c := range cases.IPsecConf {
		file := filepath.Join(dir, string(rune('a'+i/26))+string(rune('a'+i%26)))
		require.NoError(t, os.WriteFile(file, []byte(c.Text), 0o600))
		wg.Go(func() {
			slots <- true
			defer func() { <-slots }()
			tally.Count(assert.Equal(t, byStarter(t, file), c.Strongswan, "strongSwan: %s", c.Name))
			if c.Libreswan != cases.Unasked {
				tally.Count(assert.Equal(t, byAddconn(root, file), c.Libreswan, "Libreswan: %s", c.Name))
			}
		})
	}
	wg.Wait()
}

// TestLexicalRulesOfInterfaces asks ifquery.
func TestLexicalRulesOfInterfaces(t *testing.T) {
	lab.Need(t, "ifquery", "ifupdown")
	tally := lab.NewTally(t, "lexical rules of interfaces")
	file := filepath.Join(t.TempDir(), "interfaces")
	for _, c := range cases.Stanzas {
		require.NoError(t, os.WriteFile(file, []byte(c.Text), 0o600))
		r := lab.Run(nil, "ifquery", "-i", file, "eth0")
		got := ""
		if strings.Contains(r.Err, "couldn't read") {
			got = "refused"
		} else {
			var all []string
			for _, m := range regexp.MustCompile(`(?m)^address: (.*)$`).FindAllStringSubmatch(r.Out, -1) {
				all = append(all, m[1])
			}
			got = strings.Join(all, " ")
		}
		tally.Count(assert.Equal(t, got, c.Want, c.Name))
	}
}

var printedPolicy = regexp.MustCompile(`(?m)^ikev2 "([^"]*)" (active|passive) .* peer (\S+)`)

// TestLexicalRulesOfIked asks OpenIKED.
func TestLexicalRulesOfIked(t *testing.T) {
	root := lab.Unpacked(t, "openiked")
	ikedUser(t)
	tally := lab.NewTally(t, "lexical rules of iked.conf")
	file := filepath.Join(t.TempDir(), "iked.conf")
	for _, c := range cases.Policies {
		require.NoError(t, os.WriteFile(file, []byte(c.Text), 0o600))
		r := lab.Run(lab.Libraries(root), root+"/usr/sbin/iked", "-nvv", "-f", file)
		got := "refused"
		if r.Failed == nil {
			var all []string
			for _, m := range printedPolicy.FindAllStringSubmatch(r.Out+r.Err, -1) {
				all = append(all, strings.Join(m[1:], " "))
			}
			got = strings.Join(all, "; ")
		}
		tally.Count(assert.Equal(t, got, c.Want, c.Name))
	}
}
