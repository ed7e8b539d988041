package audit_test

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"toril/audit"
	"toril/baseline"
	"toril/estate"
	"toril/ike"
	"toril/model"
	"toril/packet"
	"toril/pair"
	"toril/read/formats"
	"toril/source"
)

const conn = "connections {\n  %s {\n    local_addrs = 192.0.2.%d\n    remote_addrs = 192.0.2.%d\n" +
	"    proposals = aes256-sha256-ecp256\n    local {\n      auth = psk\n      id = g%d\n    }\n    remote {\n      auth = psk\n" +
	"      id = g%d\n    }\n    children {\n      net {\n        local_ts = 10.%d.0.0/16\n        remote_ts = 10.%d.0.0/16\n      }\n" +
	"    }\n  }\n}\n"

func pairOf(t *testing.T) *pair.Whole {
	t.Helper()
	e, err := pair.WholeFS(context.Background(), fstest.MapFS{
		"g1/swanctl.conf": {Data: []byte(fmt.Sprintf(conn, "far", 1, 2, 1, 2, 1, 2))},
		"g2/swanctl.conf": {Data: []byte(fmt.Sprintf(conn, "near", 2, 1, 2, 1, 2, 1))},
	}, estate.Options{Formats: formats.All()})
	require.NoError(t, err)
	require.Empty(t, e.Problems)
	require.Len(t, e.Tunnels, 1)
	return e
}

func run(t *testing.T, e *pair.Whole, checks ...*audit.Check) []*audit.Finding {
	t.Helper()
	return result(t, e, checks...).Findings
}

func result(t *testing.T, e *pair.Whole, checks ...*audit.Check) *audit.Result {
	t.Helper()
	b, err := baseline.Named("sound")
	require.NoError(t, err)
	r, err := audit.Run(context.Background(), e.Estate, checks, b, time.Date(2026, 11, 25, 0, 0, 0, 0, time.UTC))
	require.NoError(t, err)
	return r
}

func TestSeverities(t *testing.T) {
	for _, s := range []audit.Severity{audit.Info, audit.Low, audit.Medium, audit.High, audit.Critical} {
		got, err := audit.ParseSeverity(s.String())
		require.NoError(t, err)
		assert.Equal(t, s, got)
	}
	_, err := audit.ParseSeverity("hihg")
	assert.Error(t, err)
	assert.Equal(t, audit.Medium, audit.High.Less(1))
	assert.Equal(t, audit.Info, audit.Low.Less(5), "never below the lowest")
	text, err := audit.High.MarshalText()
	require.NoError(t, err)
	assert.Equal(t, "high", string(text))
}

func TestEveryQuestionIsAskedOfEverything(t *testing.T) {
	asked := map[string]int{}
	var mu sync.Mutex // subjects are asked about side by side
	count := func(what string) {
		mu.Lock()
		defer mu.Unlock()
		asked[what]++
	}
	c := &audit.Check{Name: "test/all", Severity: audit.Low,
		Estate:     func(*audit.Pass) { count("estate") },
		Gateway:    func(_ *audit.Pass, g *model.Gateway) { count("gateway " + g.Name) },
		Tunnel:     func(_ *audit.Pass, tu *pair.Tunnel) { count("tunnel " + tu.Name) },
		Connection: func(_ *audit.Pass, s *audit.Subject) { count("connection " + s.End.Name()) },
		Child:      func(_ *audit.Pass, s *audit.Subject) { count("child " + s.End.Name() + "/" + s.Child.Name) },
	}
	run(t, pairOf(t), c)
	assert.Equal(
		t,
		map[string]int{
			"estate":                   1,
			"gateway g1":               1,
			"gateway g2":               1,
			"tunnel g1/far <> g2/near": 1,
			"connection g1/far":        1,
			"connection g2/near":       1,
			"child g1/far/net":         1,
			"child g2/near/net":        1,
		},
		asked,
	)
	assert.Equal(t, "test", c.Area())
}

func TestWhatAFindingGets(t *testing.T) {
	c := &audit.Check{
		Name:     "test/one",
		Severity: audit.High,
		Why:      "because",
		Fix:      "do this",
		Child: func(p *audit.Pass, s *audit.Subject) {
			f := p.On(s, s.Child.Local.Where(s.Child.At), false)
			f.Message = "it is so"
			p.Report(f)
		},
	}
	found := run(t, pairOf(t), c)
	require.Len(t, found, 2)
	f := found[0]
	assert.Equal(t, "test/one", f.Check)
	assert.Equal(t, "because", f.Why)
	assert.Equal(t, "do this", f.Fix)
	assert.Equal(t, "g1", f.Gateway)
	assert.Equal(t, "far", f.Connection)
	assert.Equal(t, "net", f.Child)
	assert.Equal(t, "g1/far <> g2/near", f.Tunnel)
	assert.Equal(t, "local_ts = 10.1.0.0/16", strings.TrimSpace(f.At.Text), "the line is quoted")
	assert.Equal(t, "g2", found[1].Gateway)
}

// TestPossible: a finding that rests on doubts keeps its severity and says why it is possible only; one that rests on something that was
// not given is none; what all of them rest on stands once in the list of what keeps answers from being certain.
func TestPossible(t *testing.T) {
	unread := &model.Doubt{Cause: model.NotRead, Gateway: "g1", At: source.Pos{File: "g1/swanctl.conf", Line: 3}, Why: "a word"}
	rate := &model.Doubt{Cause: model.Undecided, Gateway: "g1", Why: "a limit of rate"}
	absent := &model.Doubt{Cause: model.NotGiven, Gateway: "g1", Of: model.PacketFilter, Why: "the packet filter of g1 was not given"}
	about := func(name string, severity audit.Severity, doubts ...*model.Doubt) *audit.Check {
		return &audit.Check{Name: "test/" + name, Severity: severity, Gateway: func(p *audit.Pass, g *model.Gateway) {
			if g.Name == "g1" {
				f := audit.Finding{Gateway: g.Name, Message: "it may be so", At: audit.Evidence{Pos: g.Connections[0].At}}
				f.Rests(doubts)
				p.Report(f)
			}
		}}
	}
	e := pairOf(t)
	b, err := baseline.Named(baseline.Default)
	require.NoError(t, err)
	r, err := audit.Run(
		context.Background(),
		e.Estate,
		[]*audit.Check{about("certain", audit.Low), about("unread", audit.Critical, unread, rate),
			about("rate", audit.Medium, rate), about("absent", audit.High, absent, unread)},
		b,
		time.Now(),
	)
	require.NoError(t, err)
	var told []string
	for _, f := range r.Findings {
		told = append(told, fmt.Sprint(f.Severity, " ", f.Check, " ", f.Possible()))
		assert.Equal(t, "it may be so", f.Message)
	}
	assert.Equal(t, []string{"critical test/unread true", "medium test/rate true", "low test/certain false"}, told)
	assert.Equal(
		t,
		"it rests on what was not understood: g1/swanctl.conf:3; it rests on conditions that no file decides: a limit of rate",
		r.Findings[0].Unsure,
	)
	require.Len(t, r.Open, 1)
	assert.Equal(t, "test/absent", r.Open[0].Check)
	hangs := map[string]string{}
	for _, u := range r.Unsettled {
		for _, f := range u.Answers {
			hangs[u.Cause.String()+" "+u.Why] += f.Check + " "
		}
		assert.NotEmpty(t, u.Settle())
	}
	assert.Equal(t, map[string]string{
		"unread a word":                                   "test/unread test/absent ",
		"undecided a limit of rate":                       "test/unread test/rate ",
		"not-given the packet filter of g1 was not given": "test/absent ",
	}, hangs)
	assert.True(t, r.Fails(audit.High, false))
	assert.False(t, r.Fails(audit.High, true), "nothing of it is certain")
	assert.True(t, r.Fails(audit.Low, true))
}

func TestTheSameLineIsOneFinding(t *testing.T) {
	c := &audit.Check{Name: "test/merge", Severity: audit.High, Child: func(p *audit.Pass, s *audit.Subject) {
		f := p.On(s, source.Pos{File: "g1/swanctl.conf", Line: 2}, false)
		f.Message = "of one line"
		if s.Gateway.Name == "g2" {
			f.Example = "a packet"
		} else {
			f.Lower(2)
		}
		p.Report(f)
	}}
	found := run(t, pairOf(t), c)
	require.Len(t, found, 1)
	assert.Equal(t, audit.High, found[0].Severity, "the worst of them")
	assert.Equal(t, []string{"near/net"}, found[0].AlsoIn)
	assert.Equal(t, "a packet", found[0].Example)
}

func TestAQuestionThatIsTooComplexIsLeftOpen(t *testing.T) {
	too := &audit.Check{Name: "test/complex", Gateway: func(*audit.Pass, *model.Gateway) { panic(packet.TooComplex()) }}
	fine := &audit.Check{Name: "test/fine", Gateway: func(p *audit.Pass, g *model.Gateway) {
		p.Report(audit.Finding{Gateway: g.Name, Message: "heard of " + g.Name})
	}}
	r := result(t, pairOf(t), too, fine)
	require.Len(t, r.Findings, 2, "the other check is not hurt")
	require.Len(t, r.Open, 2, "of each gateway")
	for _, f := range r.Open {
		assert.Contains(t, f.Message, "not decided")
		assert.NotEmpty(t, f.Unsure)
	}
}

// TestAFaultOfToril: a check that fails, and a prediction, are errors of their own. The rest is reported, and what becomes of their tunnels
// is not known.
func TestAFaultOfToril(t *testing.T) {
	fails := &audit.Check{Name: "test/fails", Gateway: func(_ *audit.Pass, g *model.Gateway) {
		if g.Name == "g1" {
			panic("a mistake")
		}
	}}
	fine := &audit.Check{Name: "test/fine", Gateway: func(p *audit.Pass, g *model.Gateway) {
		p.Report(audit.Finding{Gateway: g.Name, Message: "heard of " + g.Name})
	}}
	r := result(t, pairOf(t), fails, fine)
	assert.Len(t, r.Findings, 2)
	require.Len(t, r.Failed, 1)
	assert.Contains(t, r.Failed[0].Message, "test/fails of g1 failed")
	assert.Contains(t, r.Problems(), r.Failed[0])
	require.Len(t, r.Tunnels, 1)
	assert.Equal(t, audit.Unknown, r.Tunnels[0].State)
	assert.Equal(t, "Toril failed on it", r.Tunnels[0].Says())
}

func TestOtherPanicsAreMistakesOfOurs(t *testing.T) {
	assert.Panics(t, func() { _ = packet.Guard(func() { panic("a mistake") }) })
}

func TestOrderDoesNotDependOnTheChecks(t *testing.T) {
	say := func(name string, s audit.Severity) *audit.Check {
		return &audit.Check{Name: name, Severity: s, Gateway: func(p *audit.Pass, g *model.Gateway) {
			p.Report(audit.Finding{Gateway: g.Name, Message: name, At: audit.Evidence{Pos: g.Connections[0].At}})
		}}
	}
	a, b, c := say("test/a", audit.Low), say("test/b", audit.High), say("test/c", audit.High)
	e := pairOf(t)
	one, two := run(t, e, a, b, c), run(t, e, c, a, b)
	assert.Equal(t, one, two)
	var order []string
	for _, f := range one {
		order = append(order, f.Gateway+" "+f.Check)
	}
	assert.Equal(t, []string{"g1 test/b", "g1 test/c", "g2 test/b", "g2 test/c", "g1 test/a", "g2 test/a"}, order)
}

func TestACancelledRunIsAnError(t *testing.T) {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	b, err := baseline.Named("sound")
	require.NoError(t, err)
	_, err = audit.Run(ctx, pairOf(t).Estate, []*audit.Check{{Name: "test/x", Estate: func(*audit.Pass) {}}}, b, time.Now())
	assert.ErrorIs(t, err, context.Canceled)
}

func TestJudged(t *testing.T) {
	b, err := baseline.Named("sound")
	require.NoError(t, err)
	weak := ike.Proposal{
		Protocol: ike.ESP,
		Transforms: ike.Transforms{
			ike.Encryption: ike.Choices{ike.Pick(ike.Encryption, 3, 0)},
			ike.Integrity:  ike.Choices{ike.Pick(ike.Integrity, 1, 0)},
		},
	}
	strong := ike.Proposal{Protocol: ike.ESP, Transforms: ike.Transforms{ike.Encryption: ike.Choices{ike.Pick(ike.Encryption, 20, 256)}}}
	types := []ike.Registry{ike.Encryption, ike.Integrity}
	first := audit.Judge(b, []ike.Proposal{weak, strong}, ike.ESP, types...)
	assert.True(t, first.Preferred)
	assert.Len(t, first.Weak, 2)
	assert.Equal(t, "3DES (cipher), HMAC-MD5 cut to 96 bits (integrity)", first.Names())
	second := audit.Judge(b, []ike.Proposal{strong, weak}, ike.ESP, types...)
	assert.False(t, second.Preferred)
	assert.Less(t, second.Severity(), first.Severity(), "beside a strong one that comes first it weighs less")
	none := audit.Judge(b, []ike.Proposal{strong}, ike.ESP, types...)
	assert.Empty(t, none.Weak)
	assert.Equal(t, "a, b and c", audit.List([]string{"a", "b", "c"}))
	assert.Empty(t, audit.List(nil))
	assert.Equal(t, audit.High, audit.OfLevel(baseline.MustNot))
	assert.Equal(t, audit.Medium, audit.OfLevel(baseline.ShouldNot))
}

// TestSeverityIsSaidOnce by the check or by the baseline's level; exposure lowers it, and what is uncertain is worth knowing only.
func TestSeverityIsSaidOnce(t *testing.T) {
	for _, c := range []struct {
		change func(*audit.Finding)
		want   audit.Severity
	}{
		{func(*audit.Finding) {}, audit.High},
		{func(f *audit.Finding) { f.Severity = audit.Critical }, audit.High},
		{func(f *audit.Finding) { f.Lower(1) }, audit.Medium},
		{func(f *audit.Finding) { f.Lower(1); f.Lower(1) }, audit.Low},
		{func(f *audit.Finding) { f.Lower(9) }, audit.Info},
		{func(f *audit.Finding) { f.By(baseline.Should, "x") }, audit.Medium},
		{func(f *audit.Finding) { f.By(baseline.Must, "x"); f.Lower(1) }, audit.Medium},
		{func(f *audit.Finding) { f.By(baseline.May, "x") }, audit.Info},
		{func(f *audit.Finding) { f.By(baseline.Must, "x"); f.Rests(model.Doubts{{Why: "this and that"}}) }, audit.High},
	} {
		check := &audit.Check{Name: "test/one", Severity: audit.High, Estate: func(p *audit.Pass) {
			var f audit.Finding
			c.change(&f)
			assert.Equal(t, c.want, p.Severity(f))
			p.Report(f)
		}}
		found := run(t, pairOf(t), check)
		require.Len(t, found, 1)
		assert.Equal(t, c.want, found[0].Severity)
	}
}
