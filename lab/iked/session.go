//go:build lab

package iked

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"toril/daemon/openiked"
	"toril/ike"
	"toril/lab/charon"
	"toril/packet"
)

// SA is an IKE SA and its child, as the end that set it up tells them, in the words of lab/charon.
type SA struct {
	Suite    string
	Child    string // "ESP TUNNEL", with the suite; "" for none
	Selected string // "10.1.0.0/24 === 10.2.0.0/24"
}

var (
	ikeUp    = regexp.MustCompile(`established peer .* as initiator \((.*)\)`)
	childUp  = regexp.MustCompile(`ikev2_childsa_enable: loaded SPIs: .* \((.*)\)`)
	flowsUp  = regexp.MustCompile(`ikev2_childsa_enable: loaded flows: (.*)`)
	answered = regexp.MustCompile(`policy '(\S+)' as responder`)
	flow     = regexp.MustCompile(`^(\w+)-(\S+)=(\S+)\((\d+)\)$`)
	failure  = regexp.MustCompile(`sa_free|sa_state: \S+ -> CLOS|NO_PROPOSAL_CHOSEN|AUTHENTICATION_FAILED|TS_UNACCEPTABLE|failed`)
	rekeyed  = regexp.MustCompile(`ikev2_childsa_enable: loaded SPIs|rekeyed as|activated new IKE SA`)
)

// The peer asks for another group, and the daemon begins once more.
const (
	otherGroup = "responder selected DH group"
	again      = "reinitiating with new DH group"
)

// Initiate has the daemon set up what it may begin and returns what came up, as it sees it; nil for nothing.
func (d *Daemon) Initiate() *SA {
	if d.cmd == nil {
		return nil
	}
	d.Mark()
	d.order("active")
	d.Wait(2500*time.Millisecond, func(log string) bool {
		if strings.Contains(log, otherGroup) {
			_, log, _ = strings.Cut(log, again) // "" until it begins once more
		}
		return ikeUp.MatchString(log) || failure.MatchString(log)
	})
	log := d.Log()
	up := ikeUp.FindStringSubmatch(log)
	if up == nil {
		return nil
	}
	sa := &SA{Suite: suite(ike.IKE, up[1])}
	if c := childUp.FindStringSubmatch(log); c != nil {
		protocol := ""
		if f := flowsUp.FindStringSubmatch(log); f != nil {
			protocol, sa.Selected = flows(f[1])
		}
		is, _ := os.ReadFile(filepath.Join(d.dir, "mode"))
		sa.Child = protocol + " " + map[string]string{"1": "TRANSPORT", "2": "TUNNEL"}[string(is)] + " " + suite(ike.ESP, c[1])
	}
	return sa
}

var complaint = regexp.MustCompile(`(?i)(no proposal|fail|NO_PROPOSAL|UNACCEPT|INVALID|unable|cannot|no policy|mismatch|sa_free|not )`)

// Complaints are what the daemon wrote since the last Mark that sounds like one.
func (d *Daemon) Complaints() string {
	var out []string
	for line := range strings.Lines(d.Log()) {
		if complaint.MatchString(line) && !strings.Contains(line, "config_") {
			out = append(out, strings.TrimSpace(line))
		}
	}
	return strings.Join(out[:min(len(out), 8)], " / ")
}

// Renew has the lifetime of the child or the IKE SA end; ok says whether it was renewed.
func (d *Daemon) Renew(ike bool) (ok bool) {
	if d.cmd == nil {
		return false
	}
	d.Mark()
	order := filepath.Join(d.dir, map[bool]string{true: "ike", false: "child"}[ike])
	_ = os.WriteFile(order, nil, 0o644)
	defer os.Remove(order) // where nothing was up to obey it
	d.Wait(2*time.Second, func(log string) bool { return rekeyed.MatchString(begun(log)) || failure.MatchString(begun(log)) })
	return rekeyed.MatchString(begun(d.Log()))
}

// begun is what the daemon wrote after it began to renew; what came up before may be told a little late.
func begun(log string) string {
	_, after, _ := strings.Cut(log, "send CREATE_CHILD_SA req")
	return after
}

// Down takes down what is up.
func (d *Daemon) Down() {
	if d.cmd != nil {
		d.order("passive")
		d.order("reset", "sa")
	}
}

// suite writes what the daemon says of algorithms, "enc aes-128-gcm group curve25519 prf hmac-sha2-256", as lab/charon does.
func suite(protocol ike.Protocol, text string) string {
	p := ike.Proposal{Protocol: protocol}
	f := strings.Fields(strings.ReplaceAll(text, ",", " "))
	for i := 0; i < len(f); i++ {
		if f[i] == "esn" {
			p.Transforms[ike.Sequence] = ike.Picks(ike.Sequence, 1)
			continue
		}
		if i+1 == len(f) {
			return "? " + text
		}
		c, ok := openiked.Transform(protocol, f[i], f[i+1])
		if !ok {
			return "? " + text
		}
		p.Transforms[c.Registry] = ike.Choices{c}
		i++
	}
	var out []string
	for _, of := range []ike.Registry{ike.Encryption, ike.Integrity, ike.PRF, ike.KeyExchange, ike.Sequence} {
		for _, c := range p.Of(of) {
			out = append(out, charon.Algorithm(c))
		}
	}
	return strings.Join(out, "/")
}

// flows writes "ESP-10.1.0.0/16=10.2.0.0/16(0)" as lab/charon does.
func flows(text string) (protocol, selected string) {
	var local, remote []string
	for one := range strings.SplitSeq(text, ", ") {
		m := flow.FindStringSubmatch(strings.TrimSpace(one))
		if m == nil {
			return "?", text
		}
		protocol = m[1]
		for i, list := range []*[]string{&local, &remote} {
			s := m[2+i]
			if m[4] != "0" {
				var n uint64
				_, _ = fmt.Sscan(m[4], &n)
				s += "[" + packet.ProtoName(n) + "]"
			}
			if !slices.Contains(*list, s) {
				*list = append(*list, s)
			}
		}
	}
	slices.Sort(local)
	slices.Sort(remote)
	return protocol, fmt.Sprintf("%s === %s", strings.Join(local, " "), strings.Join(remote, " "))
}

// Policy is the policy with which the daemon answered last, "" for none.
func (d *Daemon) Policy() string {
	all := answered.FindAllStringSubmatch(d.Log(), -1)
	if len(all) == 0 {
		return ""
	}
	return all[len(all)-1][1]
}
