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
	before := string(f.Bytes()[f.Start(r.At.Line):f.Range(r.At).Start])
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
func acceptIKE(g *model.Gateway, c *model.Chain, peers map[string]bool, what string) ([]Edit, bool) {
	if len(c.Rules) == 0 || len(peers) == 0 {
		return nil, false
	}
	f := ownLine(g, c.Rules[0])
	if f == nil {
		return nil, false
	}
	var words []string
	for _, p := range slices.Sorted(maps.Keys(peers)) {
		family := map[bool]string{true: "ip6", false: "ip"}[strings.Contains(p, ":")]
		udp, esp := family+" saddr "+p+" udp dport { 500, 4500 } accept", family+" saddr "+p+" meta l4proto esp accept"
		if f.Format == "iptables-save" {
			udp, esp = "-s "+p+" -p udp -m multiport --dports 500,4500 -j ACCEPT", "-s "+p+" -p esp -j ACCEPT"
		}
		if strings.Contains(what, "IKE") {
			words = append(words, udp)
		}
		if strings.Contains(what, "ESP") {
			words = append(words, esp)
		}
	}
	return insert(g, c, words)
}

// insert puts rules before the first rule of a chain that drops, or behind its last.
func insert(g *model.Gateway, c *model.Chain, words []string) ([]Edit, bool) {
	last, drops := c.Rules[len(c.Rules)-1], false
	for _, r := range c.Rules {
		if r.Verb == model.Drop || r.Verb == model.Reject {
			last, drops = r, true
			break
		}
	}
	f := ownLine(g, last)
	if f == nil {
		return nil, false
	}
	var edit Edit
	text := ""
	for _, w := range words {
		if edit = before(f, last.At.Line, ruleText(f, c, w)); !drops {
			edit.Start = f.Start(last.At.Line + 1)
			edit.End = edit.Start
		}
		text += edit.Text
	}
	edit.Text = text
	return []Edit{edit}, true
}

// What lets answers, and messages that report packets as too big, pass a filter.
var (
	answers = audit.Saying{
		"nftables":      "ct state established,related accept",
		"iptables-save": "-m conntrack --ctstate RELATED,ESTABLISHED -j ACCEPT",
	}
	tooBig = audit.Saying{
		"nftables":      "ct state related accept",
		"iptables-save": "-m conntrack --ctstate RELATED -j ACCEPT",
	}
)

// accept puts a rule that accepts before the rules of the chain at fault, or behind its last.
func accept(c *Case, how audit.Saying) []Change {
	var out []Change
	for _, chain := range c.Gateway.Chains {
		if chain.Hook != model.Forward || chain.Kind != model.FilterChain || len(chain.Rules) == 0 {
			continue
		}
		f := ownLine(c.Gateway, chain.Rules[0])
		if f == nil {
			continue
		}
		first := before(f, chain.Rules[0].At.Line, ruleText(f, chain, how[f.Format]))
		out = append(out, Change{Edits: []Edit{first}, Says: "a rule that accepts replies, and what belongs to them"})
		if edits, ok := insert(c.Gateway, chain, []string{how[f.Format]}); ok {
			out = append(out, Change{Edits: edits, Says: "a rule that accepts replies, and what belongs to them"})
		}
	}
	return out
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
