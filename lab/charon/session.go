//go:build lab

package charon

import (
	"regexp"
	"sort"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"toril/lab"
)

// Pair is two daemons at the ends of one wire.
type Pair struct{ A, B *Daemon }

// StartPair starts two daemons, at 10.0.0.1 and 10.0.0.2, each with an address of the network behind it.
func StartPair(t testing.TB, name string) *Pair {
	t.Helper()
	a, b := lab.Wire(t, name)
	time.Sleep(200 * time.Millisecond)
	return &Pair{Start(t, "a", a, ""), Start(t, "b", b, "")}
}

// SA is an IKE SA as a daemon lists it.
type SA struct {
	Name, Version, State string
	ID                   string // unique number
	Suite                string
	Busy                 bool // a task is under way
	Children             []ChildSA
}

// ChildSA is an installed child.
type ChildSA struct {
	ID            int
	Protocol      string
	Mode          string
	Suite         string
	Local, Remote []string
}

func str(s Section, key string) string { v, _ := s[key].(string); return v }

func suiteOf(s Section) string {
	var parts []string
	if e := str(s, "encr-alg"); e != "" {
		if k := str(s, "encr-keysize"); k != "" {
			e += "_" + k
		}
		parts = append(parts, e)
	}
	for _, key := range []string{"integ-alg", "prf-alg", "dh-group"} {
		if v := str(s, key); v != "" {
			parts = append(parts, v)
		}
	}
	if str(s, "esn") != "" {
		parts = append(parts, "EXT_SEQ")
	}
	return strings.Join(parts, "/")
}

// SAs lists the daemon's IKE SAs.
func (d *Daemon) SAs() ([]SA, error) {
	events, _, err := d.Command("list-sas", Section{})
	if err != nil {
		return nil, err
	}
	var out []SA
	for _, e := range events {
		for name, v := range e {
			s, ok := v.(Section)
			if !ok {
				continue
			}
			sa := SA{Name: name, Version: str(s, "version"), State: str(s, "state"), ID: str(s, "uniqueid"), Suite: suiteOf(s)}
			for key := range s {
				sa.Busy = sa.Busy || strings.HasPrefix(key, "tasks")
			}
			kids, _ := s["child-sas"].(Section)
			for _, kv := range kids {
				k, _ := kv.(Section)
				if str(k, "state") != "INSTALLED" {
					continue
				}
				n, _ := strconv.Atoi(str(k, "uniqueid"))
				local, _ := k["local-ts"].([]string)
				remote, _ := k["remote-ts"].([]string)
				sa.Children = append(
					sa.Children,
					ChildSA{ID: n, Protocol: str(k, "protocol"), Mode: str(k, "mode"), Suite: suiteOf(k), Local: local, Remote: remote},
				)
			}
			sort.Slice(sa.Children, func(i, j int) bool { return sa.Children[i].ID < sa.Children[j].ID })
			out = append(out, sa)
		}
	}
	return out, nil
}

// Established lists those that are up.
func (d *Daemon) Established(t testing.TB) []SA {
	t.Helper()
	all, err := d.SAs()
	require.NoError(t, err, d.Name)
	var out []SA
	for _, sa := range all {
		if sa.State == "ESTABLISHED" {
			out = append(out, sa)
		}
	}
	return out
}

// Set has a daemon set up a child, and returns the IKE SA that came up; nil for none. What the other end is does not matter.
func Set(t testing.TB, d *Daemon, conn, child string) *SA {
	t.Helper()
	d.Mark()
	_, _, _ = d.Command("initiate", Section{"ike": conn, "child": child, "timeout": "6000", "init-limits": "no", "loglevel": "-1"})
	settle(t, d, d)
	if up := d.Established(t); len(up) > 0 {
		return &up[0]
	}
	return nil
}

// Renew has a daemon renew its newest child, or its IKE SA, and says whether it did.
func Renew(t testing.TB, d *Daemon, ike bool) bool {
	t.Helper()
	return strings.HasPrefix(renew(t, d, d, map[bool]string{true: "ike", false: "child"}[ike], 3), "ok")
}

// Clear takes down whatever is up on a daemon.
func Clear(t testing.TB, d *Daemon) {
	t.Helper()
	for range 100 {
		clear(t, d)
		if all, _ := d.SAs(); len(all) == 0 {
			return
		}
		time.Sleep(3 * time.Millisecond)
	}
}

// settle waits until neither daemon has anything under way and both hold as many SAs, at most for a while.
func settle(t testing.TB, x, y *Daemon) {
	t.Helper()
	for end := time.Now().Add(400 * time.Millisecond); time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
		sx, sy := x.Established(t), y.Established(t)
		busy, kx, ky := false, 0, 0
		for _, s := range sx {
			busy, kx = busy || s.Busy, kx+len(s.Children)
		}
		for _, s := range sy {
			busy, ky = busy || s.Busy, ky+len(s.Children)
		}
		if !busy && len(sx) == len(sy) && kx == ky {
			return
		}
	}
}

// Outcome is what came of one attempt.
type Outcome struct {
	IKE      *SA // nil where none came up
	Message  string
	RekeyI   string // "ok SUITE", "fail", "" where nothing could be renewed
	RekeyR   string
	RekeyIKE string
}

// Try has one daemon set up a child and, where it comes up, has both renew its keys. All is taken down afterwards.
func Try(t testing.TB, from, to *Daemon, conn, child string, rekey bool) Outcome {
	t.Helper()
	from.Mark()
	to.Mark()
	var o Outcome
	_, _, err := from.Command("initiate", Section{"ike": conn, "child": child, "timeout": "6000", "init-limits": "no", "loglevel": "-1"})
	if err != nil {
		o.Message = err.Error()
	}
	settle(t, from, to)
	if up := from.Established(t); len(up) > 0 {
		sa := up[0]
		o.IKE = &sa
		if rekey && len(sa.Children) > 0 {
			o.RekeyI = renew(t, from, to, "child", 3)
			if sa.Version == "1" { // the old child stays beside the new one, and a further renewal may be thought redundant
				down(t, from, to)
				_, _, _ = from.Command(
					"initiate",
					Section{"ike": conn, "child": child, "timeout": "6000", "init-limits": "no", "loglevel": "-1"},
				)
				settle(t, from, to)
			}
			o.RekeyR = renew(t, to, from, "child", 3)
			if sa.Version == "2" {
				o.RekeyIKE = renew(t, from, to, "ike", 3)
			}
		}
	}
	down(t, from, to)
	return o
}

// down takes down whatever is up on both daemons.
func down(t testing.TB, x, y *Daemon) {
	for range 300 {
		clear(t, x)
		clear(t, y)
		a, _ := x.SAs()
		b, _ := y.SAs()
		if len(a)+len(b) == 0 {
			return
		}
		time.Sleep(3 * time.Millisecond)
	}
}

func clear(t testing.TB, d *Daemon) {
	all, err := d.SAs()
	require.NoError(t, err)
	for _, sa := range all {
		_, _, _ = d.Command("terminate", Section{"ike-id": sa.ID, "force": "yes", "timeout": "-1", "loglevel": "-1"})
	}
}

var (
	notify = regexp.MustCompile(
		`parsed \S+ (?:request|response) \d+ \[.*N\((NO_PROP|CRIT|AUTH_FAILED|NO_ADD_SAS|TS_UNACCEPT|TEMP_FAIL|NO_CHILD_SA|INVAL_\w+)\)`,
	)
	gaveUp    = regexp.MustCompile(`rekeying failed|giving up|reauthenticating|failed to establish CHILD_SA`)
	childUp   = regexp.MustCompile(`CHILD_SA \S+\{\d+\} established`)
	temporary = regexp.MustCompile(`parsed .*N\(TEMP_FAIL\)`)
)

// renew has x renew the newest child, or the IKE SA.
func renew(t testing.TB, x, y *Daemon, what string, again int) string {
	t.Helper()
	settle(t, x, y)
	up := x.Established(t)
	if len(up) == 0 {
		return ""
	}
	newest := func(sas []SA) (int, string) {
		id, suite := 0, ""
		for _, sa := range sas {
			if n, _ := strconv.Atoi(sa.ID); what == "ike" && n > id {
				id, suite = n, sa.Suite
			}
			for _, k := range sa.Children {
				if what == "child" && k.ID > id {
					id, suite = k.ID, k.Suite
				}
			}
		}
		return id, suite
	}
	old, _ := newest(up)
	if old == 0 {
		return ""
	}
	x.Mark()
	_, _, _ = x.Command("rekey", Section{what + "-id": strconv.Itoa(old)})
	for end := time.Now().Add(3 * time.Second); time.Now().Before(end); time.Sleep(2 * time.Millisecond) {
		if id, suite := newest(x.Established(t)); id > old {
			return "ok " + suite
		}
		log := x.Log()
		if what == "child" && childUp.MatchString(log) { // made, and perhaps gone again: both ends renewed at once
			return "ok"
		}
		if temporary.MatchString(log) && again > 0 {
			time.Sleep(50 * time.Millisecond)
			return renew(t, x, y, what, again-1)
		}
		for _, m := range notify.FindAllStringSubmatch(log, -1) {
			if m[1] != "INVAL_KE" {
				return "fail"
			}
		}
		if gaveUp.MatchString(log) {
			return "fail"
		}
	}
	return "fail"
}
