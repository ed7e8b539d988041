package audit_test

import (
	"context"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/baseline"
	"toril/estate"
	"toril/model"
	"toril/pair"
	"toril/read/formats"
)

// asked runs checks on the pair of gateways, with exceptions.
func asked(t *testing.T, config string, checks ...*audit.Check) *audit.Result {
	t.Helper()
	w := pairOf(t)
	if config != "" {
		xs, err := estate.ParseExceptions("x.yaml", []byte(config))
		require.NoError(t, err)
		w.Exceptions = xs
	}
	b, err := baseline.Named("sound")
	require.NoError(t, err)
	r, err := audit.Run(context.Background(), w.Estate, checks, b, time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	return r
}

// on makes a check that reports on every child, with a severity and parts.
func on(name string, s audit.Severity, parts ...audit.Part) *audit.Check {
	return &audit.Check{Name: name, Severity: s, Why: "w", Fix: "f", PartOf: parts, Child: func(p *audit.Pass, x *audit.Subject) {
		f := p.On(x, x.Child.At, false)
		f.Message = name
		p.Report(f)
	}}
}

func TestTheWorstOfACauseLeadsIt(t *testing.T) {
	part := audit.Part{Of: "test/whole", By: audit.SameChildren}
	r := asked(
		t,
		"",
		on("test/whole", audit.Medium, audit.Part{Of: "test/whole", By: audit.SameChildren}),
		on("test/part", audit.High, part),
	)
	causes := r.Causes()
	require.Len(t, causes, 1, "both ends' and both checks' are one")
	assert.Equal(t, "test/part", causes[0].Check, "the worst leads, whichever is a part of which")
	assert.Len(t, causes[0].Parts, 3)
	r = asked(
		t,
		"",
		on("test/whole", audit.High, audit.Part{Of: "test/whole", By: audit.SameChildren}),
		on("test/part", audit.High, part),
	)
	assert.Equal(t, "test/whole", r.Causes()[0].Check, "of equals the whole leads")
	r = asked(t, "", on("test/whole", audit.High), on("test/part", audit.High, audit.Part{Of: "test/whole", By: audit.SameChild}))
	assert.Len(t, r.Causes(), 2, "a cause for each end")
	r = asked(t, "", on("test/whole", audit.High), on("test/part", audit.High, audit.Part{Of: "test/other", By: audit.SameChild}))
	assert.Len(t, r.Causes(), 4, "a part of nothing that was found stands by itself")
}

func TestWhatIsPossibleOrAcceptedIsNoPart(t *testing.T) {
	open := &audit.Check{Name: "test/open", Severity: audit.High, PartOf: []audit.Part{{Of: "test/whole", By: audit.SameChild}},
		Child: func(p *audit.Pass, x *audit.Subject) {
			f := p.On(x, x.Child.At, false)
			f.Message = "it may be so"
			f.Rests(model.Doubts{{Why: "something is unread"}})
			p.Report(f)
		}}
	r := asked(t, "", on("test/whole", audit.High), open)
	assert.Len(t, r.Causes(), 4)
	config := "exceptions:\n  - {check: test/whole, gateway: g1, reason: r, owner: o, until: 2026-11-25}\n"
	r = asked(t, config, on("test/whole", audit.High), on("test/part", audit.Low, audit.Part{Of: "test/whole", By: audit.SameChild}))
	causes := r.Causes()
	require.Len(t, causes, 2, "what is accepted leads nothing")
	assert.Equal(t, "test/whole", causes[0].Check)
	assert.Equal(t, "g2", causes[0].Gateway)
	assert.Equal(t, "test/part", causes[1].Check)
	assert.Equal(t, "g1", causes[1].Gateway)
	accepted := 0
	for _, f := range r.Findings {
		if f.Accepted != nil {
			accepted++
			assert.Equal(t, "o", f.Accepted.Owner)
		}
	}
	assert.Equal(t, 1, accepted)
}

func TestExceptionsHaveTheirScopeAndTheirEnd(t *testing.T) {
	check := on("test/whole", audit.High)
	accepted := func(scope string) (gateways []string) {
		r := asked(t, "exceptions:\n  - {"+scope+", reason: r, owner: o}\n", check)
		for _, f := range r.Findings {
			if f.Accepted != nil {
				gateways = append(gateways, f.Gateway)
			}
		}
		return gateways
	}
	id := asked(t, "", check).Findings[1].ID
	for scope, want := range map[string][]string{
		"check: test/whole, until: 2026-11-25":                                        {"g1", "g2"},
		"check: test/*, until: 2026-11-25":                                            {"g1", "g2"},
		"check: other/*, until: 2026-11-25":                                           nil,
		"check: test/whole, until: 2026-11-24":                                        nil,
		"check: test/whole, gateway: g2, until: 2027-01-01":                           {"g2"},
		"check: test/whole, tunnel: g1/far, until: 2027-01-01":                        {"g1", "g2"},
		"check: test/whole, tunnel: \"g1/far <> g2/near\", until: 2027-01-01":         {"g1", "g2"},
		"check: test/whole, tunnel: g1/near, until: 2027-01-01":                       nil,
		"findings: [\"" + id + "\"], until: 2027-01-01":                               {"g2"},
		"findings: [\"" + id + "\", \"0000000000000000\"], until: 2027-01-01":         {"g2"},
		"findings: [\"" + id + "\"], check: test/other, until: 2027-01-01":            nil,
		"findings: [\"" + id + "\"], check: test/whole, gateway: g1, until: 2027-1-1": nil,
	} {
		if scope[len(scope)-8:] == "2027-1-1" {
			_, err := estate.ParseExceptions("x", []byte("exceptions:\n  - {"+scope+", reason: r, owner: o}\n"))
			assert.ErrorContains(t, err, "is not a day")
			continue
		}
		assert.Equal(t, want, accepted(scope), scope)
	}
}

// TestFingerprintsSurviveEdits: a finding has the id that it had where lines were put before it, values changed, another finding came.
func TestFingerprintsSurviveEdits(t *testing.T) {
	before := "connections {\n a {\n  version = 1\n  remote_addrs = 192.0.2.9\n  rekey_time = 40h\n }\n}\n"
	after := "# a comment\n\nconnections {\n b {\n  version = 1\n  remote_addrs = 192.0.2.10\n }\n a {\n  version = 1\n" +
		"  remote_addrs = 192.0.2.9\n  rekey_time = 50h\n }\n}\n"
	ids := func(text string) (out map[string]bool) {
		e, err := pair.LoadFS(
			context.Background(),
			fstest.MapFS{"g/swanctl.conf": {Data: []byte(text)}},
			estate.Options{Formats: formats.All()},
		)
		require.NoError(t, err)
		long := &audit.Check{Name: "test/long", Severity: audit.Low, Connection: func(p *audit.Pass, s *audit.Subject) {
			f := p.On(s, s.Connection.LifetimeSetting().Where(s.Connection.At), false)
			f.Message = s.Connection.Name + " " + s.Connection.Lifetime().String()
			p.Report(f)
		}}
		whole := &audit.Check{Name: "test/gateway", Severity: audit.Low, Gateway: func(p *audit.Pass, g *model.Gateway) {
			p.Report(audit.Finding{Gateway: g.Name, About: "it", Message: "so"})
		}}
		b, err := baseline.Named("sound")
		require.NoError(t, err)
		r, err := audit.Run(context.Background(), e, []*audit.Check{long, whole}, b, time.Unix(0, 0))
		require.NoError(t, err)
		out = map[string]bool{}
		for _, f := range r.Findings {
			out[f.ID] = true
		}
		return out
	}
	old, now := ids(before), ids(after)
	assert.Len(t, old, 2)
	assert.Len(t, now, 3)
	for id := range old {
		assert.True(t, now[id], "a finding has another id")
	}
}
