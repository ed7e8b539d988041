package fix

import (
	"maps"
	"slices"
	"strings"

	"toril/audit"
	"toril/model"
	"toril/source"
)

// ruleAt returns the rule of a gateway that stands at a place; nil for none.
func ruleAt(g *model.Gateway, at source.Pos) *model.Rule {
	for _, c := range g.Chains {
		for _, r := range c.Rules {
			if r.At.Place() == at.Place() {
				return r
			}
		}
	}
	return nil
}

// ownLine returns the file of a rule that stands on a line of its own, in a format that Toril writes rules into; nil for any other.
func ownLine(g *model.Gateway, r *model.Rule) *model.File {
	f := g.File(r.At.File)
	if f == nil || f.Format != "nftables" && f.Format != "iptables-save" {
		return nil
	}
	before := string(f.Bytes()[lineStart(f, r.At.Line):f.Range(r.At).Start])
	if strings.TrimSpace(f.Line(r.At.Line)) == "" || strings.TrimSpace(before) != "" {
		return nil
	}
	return f
}

// insertRule puts a rule that is said in a format's words before another of the same chain.
func insertRule(g *model.Gateway, r *model.Rule, how audit.Saying) (Edit, bool) {
	f := ownLine(g, r)
	if f == nil || how[f.Format] == "" {
		return Edit{}, false
	}
	return before(f, r.At.Line, ruleText(f, r.Of, how[f.Format])), true
}

// ruleText is a rule's words as a line of its file.
func ruleText(f *model.File, c *model.Chain, words string) string {
	if f.Format == "iptables-save" {
		return "-A " + c.Name + " " + words
	}
	return words
}

// acceptIKE puts rules that accept IKE and ESP of peers before the last rule of a chain that drops, or behind its last.
func acceptIKE(g *model.Gateway, c *model.Chain, peers map[string]bool) ([]Edit, bool) {
	if len(c.Rules) == 0 || len(peers) == 0 {
		return nil, false
	}
	last := c.Rules[len(c.Rules)-1]
	for _, r := range c.Rules {
		if r.Verb == model.Drop || r.Verb == model.Reject {
			last = r
			break
		}
	}
	f := ownLine(g, last)
	if f == nil {
		return nil, false
	}
	var text []string
	for _, p := range slices.Sorted(maps.Keys(peers)) {
		family := map[bool]string{true: "ip6", false: "ip"}[strings.Contains(p, ":")]
		if f.Format == "nftables" {
			text = append(text, family+" saddr "+p+" udp dport { 500, 4500 } accept", family+" saddr "+p+" meta l4proto esp accept")
			continue
		}
		text = append(text, "-A "+c.Name+" -s "+p+" -p udp -m multiport --dports "+
			"500,4500 -j ACCEPT", "-A "+c.Name+" -s "+p+" -p esp -j ACCEPT")
	}
	out := []Edit{}
	for _, t := range text {
		if last.Verb == model.Drop || last.Verb == model.Reject {
			out = append(out, before(f, last.At.Line, t))
		} else {
			out = append(out, behindSame(f, last.At.Line, t))
		}
	}
	out[0].Text = joinTexts(out)
	return out[:1], true
}

// joinTexts puts edits at the same place together.
func joinTexts(es []Edit) string {
	var b strings.Builder
	for _, e := range es {
		b.WriteString(e.Text)
	}
	return b.String()
}

// behindSame makes an edit that puts a line behind another, indented as that.
func behindSame(f *model.File, line int, text string) Edit {
	e := before(f, line, text)
	e.Start = lineStart(f, line+1)
	if line >= f.Lines() {
		e.Start = len(f.Bytes())
	}
	e.End = e.Start
	return e
}

// logged has a rule of nftables that accepts write a log.
func logged(c *Case) []Change {
	r := ruleAt(c.Gateway, c.Finding.At.Pos)
	if r == nil {
		return nil
	}
	f := ownLine(c.Gateway, r)
	if f == nil || f.Format != "nftables" {
		return nil
	}
	at := f.Range(r.At)
	i := strings.LastIndex(string(f.Bytes()[at.Start:at.End]), "accept")
	if i < 0 {
		return nil
	}
	return []Change{{
		Edits: []Edit{{File: f.Path, Range: source.Range{Start: at.Start + i, End: at.Start + i}, Text: "log "}},
		Says:  "a log of what the rule accepts",
	}}
}
