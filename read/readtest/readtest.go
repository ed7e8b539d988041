// Package readtest helps to test readers: it reads a text as if it were a file of a gateway.
package readtest

import (
	"context"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"testing/fstest"

	"toril/daemon"
	"toril/ike"
	"toril/model"
	"toril/read"
	"toril/source"
)

// Read reads a text in a format. Other files that it may include are given by name. The gateway's first file is the
// text, under the name given.
func Read(format *read.Format, name, text string, others map[string]string) *model.Gateway {
	files := map[string]string{name: text}
	maps.Copy(files, others)
	g, folder := &model.Gateway{Name: "g"}, open(files)
	read.Join(g, []*read.Input{one(g, folder, format, name)}, unguarded)
	return g
}

// ReadAll reads files, each in the format whose Looks takes it most for its own, formats in their order.
func ReadAll(formats []*read.Format, files map[string]string) *model.Gateway {
	g, folder := &model.Gateway{Name: "g"}, open(files)
	of := map[*read.Format][]string{}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if f := read.Recognise(formats, source.NewFile(name, []byte(files[name]))).Format; f != nil {
			of[f] = append(of[f], name)
		}
	}
	formats = slices.SortedStableFunc(slices.Values(formats), func(a, b *read.Format) int { return a.Order - b.Order })
	var inputs []*read.Input
	for _, f := range formats {
		for _, name := range of[f] {
			inputs = append(inputs, one(g, folder, f, name))
		}
	}
	read.Join(g, inputs, unguarded)
	return g
}

func open(files map[string]string) *read.Folder {
	fsys := fstest.MapFS{}
	for n, t := range files {
		fsys[n] = &fstest.MapFile{Data: []byte(t)}
	}
	return &read.Folder{FS: fsys, MaxBytes: 64 << 20, Taken: map[string]bool{}}
}

func one(g *model.Gateway, folder *read.Folder, format *read.Format, name string) *read.Input {
	f, err := folder.Open(name)
	if err != nil {
		panic(err) // the text is there
	}
	f.Format = format.Name
	if v, ok := daemon.VersionIn(f.File, format.Software); ok {
		g.Versions = append(g.Versions, v)
	}
	in := read.NewInput(context.Background(), g.Name, g.Versions, f, folder)
	format.Read(in)
	return in
}

func unguarded(_ *read.Input, step func()) { step() }

// Unread lists what a gateway's files left unread, as "line: why".
func Unread(g *model.Gateway) []string {
	var out []string
	for _, f := range g.Files {
		for _, u := range f.Unread {
			out = append(out, u.At.String()+": "+u.Why)
		}
	}
	return out
}

// Problems lists what is wrong with a gateway's files.
func Problems(g *model.Gateway) []string {
	var out []string
	for _, p := range g.Problems {
		out = append(out, p.Error())
	}
	return out
}

// Rules writes what was understood of a gateway's packet filter, without positions: two files that mean the same give
// the same text.
func Rules(g *model.Gateway) string {
	var b strings.Builder
	for _, c := range g.Chains {
		fmt.Fprintf(&b, "chain %s: hook %s, priority %d, kind %d, policy %s\n", c.ID(), c.Hook, c.Priority, c.Kind, c.Policy.Value)
		for _, r := range c.Rules {
			b.WriteString("  " + Rule(r) + "\n")
		}
	}
	return b.String()
}

// Rule writes what was understood of a rule.
func Rule(r *model.Rule) string {
	out := r.When.String()
	if !r.Certain() {
		out += " if " + strings.Join(r.Doubts.Says(), " and ")
	}
	out += " -> " + r.Verb.String()
	if r.Target != "" {
		out += " " + r.Target
	}
	if to := r.Writes(); to.Text != "" {
		out += " " + to.Text
	}
	if r.SetMark != nil {
		if r.SetMark.Conn {
			out += " connection"
		}
		out += fmt.Sprintf(" mark %#x", r.SetMark.Value)
		if r.SetMark.Copy {
			out += " copied"
		}
		if r.SetMark.Mask != ^uint32(0) || r.SetMark.Any {
			out += fmt.Sprintf("/%#x any=%v", r.SetMark.Mask, r.SetMark.Any)
		}
	}
	if r.Log {
		out += " log"
	}
	return out
}

// Network writes a gateway's interfaces, routes and routing rules, without positions.
func Network(g *model.Gateway) string {
	var b strings.Builder
	for _, i := range g.Interfaces {
		fmt.Fprintf(&b, "interface %s %s %v", i.Name, i.Kind, i.Addresses)
		if i.IfID != 0 || i.Key != 0 || i.Local.IsValid() || i.Remote.IsValid() {
			fmt.Fprintf(&b, " if_id %d key %d %s > %s", i.IfID, i.Key, i.Local, i.Remote)
		}
		if i.Parent != "" {
			fmt.Fprintf(&b, " on %s", i.Parent)
		}
		fmt.Fprintf(&b, " down %v dynamic %v\n", i.Down, i.Dynamic)
	}
	for _, r := range g.Routes {
		fmt.Fprintf(
			&b,
			"route %s %s via %s dev %s table %s metric %d src %s %s\n",
			r.Kind,
			r.To,
			r.Via,
			r.Dev,
			r.Table,
			r.Metric,
			r.Src,
			r.Origin,
		)
	}
	for _, r := range g.RouteRules {
		fmt.Fprintf(&b, "rule %d %s -> %s %s unsure %v\n", r.Priority, r.When, r.Kind, r.Table, !r.Doubts.Certain())
	}
	return b.String()
}

// Connections writes what was understood of a gateway's connections, without positions; a value that nobody said is in
// parentheses.
func Connections(g *model.Gateway) string {
	var b strings.Builder
	for _, c := range g.Connections {
		fmt.Fprintf(
			&b,
			"connection %s %s%s\n",
			c.Name,
			c.Daemon.Name,
			mark(!c.Doubts.Certain(), " unsure")+mark(c.Unusable != nil, " refused"),
		)
		fmt.Fprintf(
			&b,
			"  version %s, aggressive %s, encap %s, mobike %s\n",
			show(c.Version),
			show(c.Aggressive),
			show(c.Encap),
			show(c.MOBIKE),
		)
		fmt.Fprintf(&b, "  %s > %s\n", show(c.LocalAddrs), show(c.RemoteAddrs))
		fmt.Fprintf(&b, "  %s %s > %s %s\n", show(c.Local.Method), show(c.Local.ID), show(c.Remote.Method), show(c.Remote.ID))
		proposals(&b, "  ike", c.Proposals)
		fmt.Fprintf(&b, "  rekey %s, reauth %s, dpd %s\n", show(c.Rekey), show(c.Reauth), show(c.DPD))
		for _, k := range c.Children {
			fmt.Fprintf(&b, "  child %s%s: %s === %s\n", k.Name, mark(!k.Doubts.Certain(), " unsure"), show(k.Local), show(k.Remote))
			proposals(&b, "    "+k.Protocol.Value.String(), k.Proposals)
			fmt.Fprintf(
				&b,
				"    mode %s, start %s, rekey %s, life %s, bytes %s, window %s, if_id %s, mark %s\n",
				show(k.Mode),
				show(k.Start),
				show(k.Rekey),
				show(k.Life),
				show(k.LifeBytes),
				show(k.ReplayWindow),
				show(k.IfIDOut),
				show(k.MarkOut),
			)
		}
	}
	for _, k := range g.Keys {
		owners := fmt.Sprint(k.Owners)
		if k.For != nil {
			owners = "connection " + k.For.Name
		}
		fmt.Fprintf(&b, "key %s for %s, %d bytes%s\n", k.Name, owners, len(k.Secret.Reveal()), mark(k.PPK, ", post-quantum"))
	}
	return b.String()
}

func mark(on bool, text string) string {
	if on {
		return text
	}
	return ""
}

func show[T any](s model.Setting[T]) string {
	text := fmt.Sprint(s.Value)
	if s.IsDefault() {
		return "(" + text + ")"
	}
	return text
}

func proposals(b *strings.Builder, what string, s model.Setting[[]ike.Proposal]) {
	for _, p := range s.Value {
		one := model.Setting[string]{Value: p.Names(), Origin: s.Origin}
		fmt.Fprintf(b, "%s %s\n", what, show(one))
	}
}

// Differences lists where the packet filters of two gateways do not mean the same: chains whatever their order, rules in
// theirs, and the rules that one saved line became whatever theirs.
func Differences(a, b *model.Gateway) []string {
	var out []string
	index := map[string]*model.Chain{}
	for _, c := range b.Chains {
		index[c.ID()] = c
	}
	told := func(g *model.Gateway) (n int) { // an empty base chain that accepts is the same as none
		for _, c := range g.Chains {
			if len(c.Rules) > 0 || c.Hook == model.NoHook || c.Policy.Value != model.Accept {
				n++
			}
		}
		return n
	}
	if n, m := told(a), told(b); n != m {
		out = append(out, fmt.Sprintf("%d chains against %d", n, m))
	}
	for _, c := range a.Chains {
		d := index[c.ID()]
		if d == nil && len(c.Rules) == 0 && c.Hook != model.NoHook && c.Policy.Value == model.Accept {
			continue
		}
		if d == nil {
			out = append(out, "no chain "+c.ID())
			continue
		}
		if c.Hook != d.Hook || c.Priority != d.Priority || c.Kind != d.Kind || c.Policy.Value != d.Policy.Value {
			out = append(out, "another place or policy: "+c.ID())
		}
		ga, gb := lines(c.Rules), lines(d.Rules)
		if len(ga) != len(gb) && len(c.Rules) == len(d.Rules) { // several rules on one line
			ga, gb = nil, nil
			for i := range c.Rules {
				ga, gb = append(ga, c.Rules[i:i+1]), append(gb, slices.Clone(d.Rules[i:i+1]))
			}
		}
		if len(ga) != len(gb) {
			out = append(out, fmt.Sprintf("%s: %d lines against %d", c.ID(), len(ga), len(gb)))
			continue
		}
		for i := range ga {
			for _, r := range ga[i] {
				j := slices.IndexFunc(gb[i], func(o *model.Rule) bool { return same(r, o) })
				if j < 0 {
					out = append(out, fmt.Sprintf("%s: nothing like %s", c.ID(), Rule(r)))
					continue
				}
				gb[i] = slices.Delete(gb[i], j, j+1)
			}
			for _, r := range gb[i] {
				out = append(out, fmt.Sprintf("%s: too much: %s", c.ID(), Rule(r)))
			}
		}
	}
	return out
}

func lines(rules []*model.Rule) [][]*model.Rule {
	var out [][]*model.Rule
	for i, r := range rules {
		if i == 0 || r.At != rules[i-1].At {
			out = append(out, nil)
		}
		out[len(out)-1] = append(out[len(out)-1], r)
	}
	return out
}

func same(a, b *model.Rule) bool {
	all := *a
	all.When = b.When
	return a.When.Equal(b.When) && Rule(&all) == Rule(b)
}

// Everything writes every setting of a gateway's connections, field by field, with the origin of each: what nobody said is in
// parentheses.
func Everything(g *model.Gateway) string {
	var b strings.Builder
	var write func(indent string, v reflect.Value)
	write = func(indent string, v reflect.Value) {
		for i := range v.NumField() {
			f, field := v.Field(i), v.Type().Field(i)
			name := indent + field.Name
			switch {
			case !field.IsExported() || field.Name == "Number" || f.Kind() == reflect.Map && f.Len() == 0 ||
				f.Type() == reflect.TypeFor[source.Pos]():
			case f.Kind() == reflect.Struct && f.FieldByName("Origin").IsValid():
				text := fmt.Sprint(f.FieldByName("Value"))
				if list, ok := f.FieldByName("Value").Interface().([]string); ok {
					text = fmt.Sprintf("%q", list)
				}
				if f.FieldByName("Origin").Interface() == model.Default {
					text = "(" + text + ")"
				}
				fmt.Fprintf(&b, "%s: %s\n", name, text)
			case f.Type() == reflect.TypeFor[[]*model.Child]():
				for j := range f.Len() {
					fmt.Fprintf(&b, "%schild\n", indent)
					write(indent+"  ", f.Index(j).Elem())
				}
			case f.Type() == reflect.TypeFor[model.Doubts]():
				fmt.Fprintf(&b, "%s: %q\n", name, f.Interface().(model.Doubts).Told())
			case f.Type() == reflect.TypeFor[model.Daemon]():
				fmt.Fprintf(&b, "%s: %s\n", name, f.FieldByName("Name"))
			case f.Kind() == reflect.Struct && f.NumField() > 0:
				fmt.Fprintf(&b, "%s\n", name)
				write(indent+"  ", f)
			case f.Kind() != reflect.Pointer:
				fmt.Fprintf(&b, "%s: %v\n", name, f)
			}
		}
	}
	for _, c := range g.Connections {
		b.WriteString("connection\n")
		write("  ", reflect.ValueOf(c).Elem())
	}
	for _, i := range g.Interfaces {
		b.WriteString("interface\n")
		write("  ", reflect.ValueOf(i).Elem())
	}
	for _, r := range g.Routes {
		fmt.Fprintf(&b, "route %s dev %s\n", r.To, r.Dev)
	}
	return b.String()
}
