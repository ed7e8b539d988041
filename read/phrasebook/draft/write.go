package draft

import (
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	"toril/model/settings"
	"toril/source"
)

// Write writes a draft as a phrasebook. It can be read as it is; what is a guess says so, and forms of which nothing is known stand at the
// end, in a comment.
func Write(w io.Writer, d *Draft) error {
	var b strings.Builder
	m := d.Manner
	fmt.Fprintf(&b, "# A draft. What is marked as a guess rests on words alone: check it, and add what is missing.\n"+
		"# Next: toril phrasebook try FILE SAMPLE\nlanguage: %s\ntitle: a device language that is still to be named\n", d.Language)
	fmt.Fprintf(&b, "syntax: {kind: %s", m.Kind)
	list := func(key string, words []string) {
		if len(words) > 0 {
			quoted := make([]string, len(words))
			for i, w := range words {
				quoted[i] = strconv.Quote(w)
			}
			fmt.Fprintf(&b, ", %s: [%s]", key, strings.Join(quoted, ", "))
		}
	}
	list("comments", m.Comments)
	list("leave", m.Leave)
	if m.Quotes != "" {
		fmt.Fprintf(&b, ", quotes: %s", strconv.Quote(m.Quotes))
	}
	if m.End != "" {
		fmt.Fprintf(&b, ", end: %s", strconv.Quote(m.End))
	}
	list("clauses", m.Clauses)
	if m.Macros != "" {
		fmt.Fprintf(&b, ", macros: %s", strconv.Quote(m.Macros))
	}
	if m.Join {
		b.WriteString(", join: true")
	}
	b.WriteString("}\n")
	var vocabularies []string
	for name, words := range d.Words {
		if len(words) > 0 {
			vocabularies = append(vocabularies, name)
		}
	}
	slices.Sort(vocabularies)
	if len(vocabularies) > 0 {
		b.WriteString("vocabulary:\n")
	}
	for _, name := range vocabularies {
		fmt.Fprintf(&b, "  %s:\n", name)
		for _, w := range slices.Sorted(maps.Keys(d.Words[name])) {
			fmt.Fprintf(&b, "    %s: %s\n", strconv.Quote(source.Clean(w)), strconv.Quote(d.Words[name][w]))
		}
	}
	if rules(d.Forms) {
		b.WriteString("chains:\n- {name: across, hook: forward, policy: drop} # a guess\n")
	}
	b.WriteString("phrases:\n")
	for _, f := range d.Forms {
		f.write(&b, "")
	}
	if len(d.Forms) == 0 {
		b.WriteString("- {say: nothing, moot: nothing is known yet}\n")
	}
	if len(d.Left) > 0 {
		b.WriteString("# Not guessed:\n")
		for _, f := range d.Left {
			fmt.Fprintf(&b, "#   %d × %s\n", len(f.Lines), source.Clean(strings.TrimSpace(f.shown())))
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// rules reports whether some form is a rule.
func rules(forms []*Form) bool {
	return slices.ContainsFunc(forms, func(f *Form) bool {
		return f.Makes == "rule" || rules(f.Nested) || slices.ContainsFunc(f.keys(), func(k key) bool { return k.group == "rule" })
	})
}

// shown is a form with those around it, where it stands in others.
func (f *Form) shown() string {
	if f.path == "" {
		return f.Say
	}
	return f.path + " > " + f.Say
}

// write writes the phrase of a form.
func (f *Form) write(b *strings.Builder, indent string) {
	say, used := f.Say, map[string]bool{f.Named: true}
	keys := f.keys()
	for _, k := range keys {
		used[k.value] = true
	}
	for _, s := range f.slots {
		if !used["<"+s.name+">"] {
			say = strings.Replace(say, "<"+s.name+":", "<_:", 1)
		}
	}
	for _, c := range f.Claims {
		for _, s := range f.slots {
			if typ := typeOf(c.What, s.kind); typ != "" && c.Value == "<"+s.name+">" {
				say = retyped(say, s.name, typ)
			}
		}
	}
	fmt.Fprintf(b, "%s- say: %s\n", indent, strconv.Quote(source.Clean(say)))
	indent += "  "
	if f.Makes != "" {
		fmt.Fprintf(b, "%smakes: %s\n", indent, f.Makes)
		if f.Kind != "" {
			fmt.Fprintf(b, "%skind: %s\n", indent, f.Kind)
		}
		if f.Named != "" {
			fmt.Fprintf(b, "%snamed: %s\n", indent, strconv.Quote(f.Named))
		}
	}
	if f.Makes == "rule" {
		fmt.Fprintf(b, "%srule: {chain: across} # a guess\n", indent)
	}
	for _, group := range grouped(keys) {
		if group[0].key == "" {
			fmt.Fprintf(b, "%s%s: %s\n", indent, group[0].group, strconv.Quote(group[0].value))
			continue
		}
		fmt.Fprintf(b, "%s%s: {", indent, group[0].group)
		for i, k := range group {
			if i > 0 {
				b.WriteString(", ")
			}
			fmt.Fprintf(b, "%s: %s", k.key, strconv.Quote(k.value))
		}
		b.WriteString("}")
		for _, k := range group {
			if k.guess {
				fmt.Fprintf(b, " # a guess: %s", source.Clean(k.why))
				break
			}
		}
		b.WriteString("\n")
	}
	if len(f.Nested) > 0 {
		fmt.Fprintf(b, "%sphrases:\n", indent)
		for _, n := range f.Nested {
			n.write(b, indent)
		}
	}
}

// key is a key of a phrase in a phrasebook: group is "sets", "parts", "key" and so on.
type key struct {
	group, key, value, why string
	guess                  bool
}

// keys are those that the claims of a form come to.
func (f *Form) keys() (out []key) {
	for _, c := range f.Claims {
		group, name, dotted := strings.Cut(c.What, ".")
		switch {
		case c.What == "network":
			out = append(out, key{"adds", "", c.Value, c.Why, c.Guess})
		case c.What == "uses":
			out = append(out, key{"uses", "", c.Value, c.Why, c.Guess})
		case !dotted:
			name, _, _ = strings.Cut(c.What, "/")
			out = append(out, key{"sets", name, c.Value, c.Why, c.Guess})
			if name == settings.IKEVersion.Name {
				out[len(out)-1].value = c.Value
			}
		case group == "ike" || group == "child" || group == "object":
			if name == "group" {
				name = "key-exchange"
			}
			out = append(out, key{"parts", "of", group, c.Why, c.Guess}, key{"parts", name, c.Value, c.Why, c.Guess})
		case group == "rule":
			out = append(out, key{"rule", name, c.Value, c.Why, c.Guess})
		default:
			out = append(out, key{group, name, c.Value, c.Why, c.Guess})
		}
	}
	return f.whole(out)
}

// whole leaves out what a phrasebook could not read: a rule without an action, a route without a destination.
func (f *Form) whole(in []key) (out []key) {
	has := func(group, name string) bool {
		return slices.ContainsFunc(in, func(k key) bool { return k.group == group && k.key == name })
	}
	chained := false
	for _, k := range in {
		switch {
		case k.group == "rule" && !has("rule", "action") && f.within != "rule",
			k.group == "route" && !has("route", "to") && f.within != "route":
			continue
		case k.group == "sets" && k.key == settings.IKEVersion.Name && strings.HasPrefix(k.value, "<"):
			continue // its words are still to be said
		case k.group == "routing" && f.within != "routing":
			continue // the protocol is still to be said
		}
		if k.group == "rule" && !chained && f.within != "rule" {
			out, chained = append(out, key{"rule", "chain", "across", "", true}), true
		}
		if slices.ContainsFunc(out, func(o key) bool { return o.group == k.group && o.key == k.key }) {
			continue
		}
		out = append(out, k)
	}
	return out
}

// grouped brings the keys of one group together.
func grouped(keys []key) (out [][]key) {
	for _, k := range keys {
		i := slices.IndexFunc(out, func(g []key) bool { return g[0].group == k.group })
		if i < 0 {
			out = append(out, nil)
			i = len(out) - 1
		}
		out[i] = append(out[i], k)
	}
	return out
}

// typeOf is the type that a slot needs to be what it is claimed to be; "" for the one that it has.
func typeOf(what string, kind string) string {
	_, unit, spanned := strings.Cut(what, "/")
	switch {
	case spanned:
		return unit
	case what == settings.Liveness.Name:
		return "seconds"
	case strings.HasSuffix(what, ".group"):
		return "group"
	case what == "rule.ports":
		return "port"
	case what == "interface.address":
		return "host"
	case kind != "name":
	case what == settings.OwnAddress.Name || what == "route.device":
		return "interface"
	case what == "uses":
		return "settings"
	case what == settings.IKEProposals.Name || what == settings.ChildProposals.Name:
		return "proposals"
	case what == "network" || what == settings.OwnNetworks.Name || what == settings.PeerNetworks.Name:
		return "networks"
	}
	return ""
}

// retyped gives a slot of a phrase another type.
func retyped(say, name, typ string) string {
	i := strings.Index(say, "<"+name+":")
	if i < 0 {
		return say
	}
	end := strings.IndexByte(say[i:], '>') + i
	if typ == "host" { // an address with its network
		if strings.HasPrefix(say[i+len(name)+2:end], "address-mask") {
			typ = "host-mask"
		} else {
			typ = "prefix"
		}
	}
	return say[:i] + "<" + name + ":" + typ + say[end:]
}
