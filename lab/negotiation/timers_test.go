//go:build lab

package negotiation

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"toril/lab"
	"toril/negotiate"
)

// pairsByTime are pairs of which an end renews its keys by the clock, a line each: a name, and what either end says. "child" and "ike" are
// times in seconds, 0 is never, and what is left out is long; "margin" is how long before its end Libreswan renews an SA. No child of
// strongSwan's is renewed: it is the kernel that says when, and the laboratory's does not.
const pairsByTime = `
ike-of-both | S ike=3 | S ike=60
ike-of-the-responder | S ike=60 | S ike=3
ike-never-by-one | S ike=0 | S ike=3
child-by-Libreswan | S child=60 | L child=3
ike-never-by-Libreswan | S ike=3 | L child=0
child-never-by-strongSwan | S child=0 | L child=3
child-and-ike-with-Libreswan | S ike=3 | L child=60
ike-with-Libreswan | S ike=3 | L ike=60
ike-by-Libreswan | S ike=60 | L ike=3
child-of-Libreswan | L child=3 | L child=60
child-of-Libreswan-as-the-responder | L child=60 | L child=3
ike-of-Libreswan | L ike=3 | L ike=60
ike-of-Libreswan-as-the-responder | L ike=60 | L ike=3
half-the-margin | L child=5 | L child=3 margin=6
half-the-margin-of-ike | L ike=5 | L ike=3 margin=6
half-the-margin-of-ike-with-strongSwan | S ike=5 | L ike=3 margin=6
as-long-at-both | L child=3 | L child=3
`

// endByTime writes one end.
func endByTime(text string, me, peer int) (kind string, files map[string]string) {
	kind, says, _ := strings.Cut(strings.TrimSpace(text), " ")
	child, ikeSA, margin := 3600, 7200, 2
	for one := range strings.FieldsSeq(says) {
		key, value, _ := strings.Cut(one, "=")
		_, _ = fmt.Sscan(value, map[string]*int{"child": &child, "ike": &ikeSA, "margin": &margin}[key])
	}
	if kind == "S" {
		e := end{version: "2", local: fmt.Sprintf("10.%d.0.0/16", me), remote: fmt.Sprintf("10.%d.0.0/16", peer), localAuth: "psk",
			remoteAuth: "psk", psk: "harbour light of the old town"}
		conf := e.text(fmt.Sprintf("10.0.0.%d", me), fmt.Sprintf("10.0.0.%d", peer), me, peer)
		conf = strings.Replace(conf, "ike {\n", fmt.Sprintf("ike {\n    rekey_time = %ds\n    rand_time = 0s\n    over_time = 60s\n", ikeSA), 1)
		conf = strings.Replace(conf, "c {\n", fmt.Sprintf("c {\n        rekey_time = %ds\n        rand_time = 0s\n", child), 1)
		return kind, map[string]string{"swanctl.conf": conf}
	}
	lines := fmt.Sprintf("pfs=no rekeyfuzz=0%% rekeymargin=%ds salifetime=%ds ikelifetime=%ds", margin, child+margin,
		ikeSA+margin)
	if child == 0 {
		lines = "pfs=no rekey=no"
	}
	return kind, libreText(lines, me, peer)
}

// began reports whether a daemon began to renew what it has, since the last mark.
func began(d daemon, ikeSA bool) bool {
	switch d := d.(type) {
	case swan:
		return strings.Contains(d.Log(), map[bool]string{true: "initiating IKE_SA ike[", false: "establishing CHILD_SA c{"}[ikeSA])
	case *libre:
		return strings.Contains(d.Log(), map[bool]string{true: "initiator rekeyed IKE SA", false: "initiator rekeyed Child SA"}[ikeSA])
	}
	return false
}

// TestWhoRenewsByTheClock waits until keys are renewed by time, and holds who began against the prediction.
func TestWhoRenewsByTheClock(t *testing.T) {
	tally := lab.NewTally(t, "negotiation: keys renewed by time, either end as the initiator")
	t.Parallel()
	nsA, nsB := lab.Wire(t, "clock")
	for _, kinds := range []string{"SS", "SL", "LL"} {
		one, two := startOf(t, kinds[:1], "a", nsA), startOf(t, kinds[1:], "b", nsB)
		for line := range strings.Lines(strings.TrimSpace(pairsByTime)) {
			parts := strings.Split(strings.TrimSpace(line), "|")
			k1, a := endByTime(parts[1], 1, 2)
			k2, b := endByTime(parts[2], 2, 1)
			if k1+k2 != kinds {
				continue
			}
			ikeSA := strings.Contains(line, "ike=")
			predicted := negotiate.Tunnel(estateOf(t, a, b))
			for i := range 2 {
				re := predicted[i].Children[0].Rekey
				if ikeSA {
					re = predicted[i].Rekey
				}
				want := re.By
				if re.After > waited || want == "" {
					want = "nobody"
				}
				got := renewedBy(t, one, two, a, b, i, ikeSA)
				if got != want { // a daemon that was kept waiting by others comes late
					got = renewedBy(t, one, two, a, b, i, ikeSA)
				}
				if !tally.Count(got == want) {
					t.Errorf("%s, %s initiates: %s renewed, predicted %s after %s (%s)\n a says %s\n b says %s",
						strings.TrimSpace(parts[0]),
						[]string{"a", "b"}[i], got, want, re.After, re.Outcome, one.said(), two.said())
				}
			}
		}
		one.Stop()
		two.Stop()
	}
}

// waited is how long somebody is waited for who renews keys.
const waited = 7 * time.Second

// renewedBy has an end, by its number, set the tunnel up, and returns the end that renewed first; "nobody" for none.
func renewedBy(t *testing.T, one, two daemon, a, b map[string]string, i int, ikeSA bool) string {
	one.load(t, a)
	two.load(t, b)
	from, to := one, two
	if i == 1 {
		from, to = two, one
	}
	from.up(t)
	defer func() {
		from.down(t)
		to.down(t)
		from.down(t)
	}()
	one.mark()
	two.mark()
	for end := time.Now().Add(waited); time.Now().Before(end); time.Sleep(100 * time.Millisecond) {
		switch {
		case began(one, ikeSA):
			return "a"
		case began(two, ikeSA):
			return "b"
		}
	}
	return "nobody"
}
