package phrasebook

import (
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"toril/model/settings"
)

// Reference is docs/phrasebooks-reference.md: every key of a phrasebook, every type of slots, every part of a fact, made of the tables that
// phrasebooks are read by. It is long as the document is: a part a table.
func Reference() string {
	var b strings.Builder
	b.WriteString("# Phrasebooks: the reference\n\nWritten by `go generate ./...` from the tables that phrasebooks are read by. " +
		"[phrasebooks.md](phrasebooks.md) is the tutorial; [schema/phrasebook.schema.json](schema/phrasebook.schema.json) " +
		"is for editors.\n")
	keys := func(title string, t reflect.Type) {
		fmt.Fprintf(&b, "\n## %s\n\n| key | meaning |\n| --- | --- |\n", title)
		for i := range t.NumField() {
			f := t.Field(i)
			fmt.Fprintf(&b, "| `%s` | %s |\n", f.Tag.Get("yaml"), cell(f.Tag.Get("says")))
		}
	}
	keys("The file", reflect.TypeFor[document]())
	keys("syntax", reflect.TypeFor[syntaxText]())
	keys("chains", reflect.TypeFor[chainText]())
	keys("lists", reflect.TypeFor[listText]())
	keys("defaults", reflect.TypeFor[defaultText]())
	keys("given", reflect.TypeFor[givenText]())
	keys("phrases", reflect.TypeFor[ruleText]())
	keys("examples", reflect.TypeFor[exampleText]())

	b.WriteString(
		"\n## Orders of work\n\n`order` is one of these; left out, it is the first.\n\n| order | what it means |\n| --- | --- |\n",
	)
	for _, o := range slices.Sorted(maps.Keys(Orders())) {
		fmt.Fprintf(&b, "| `[%s]` | %s |\n", strings.ReplaceAll(o, " ", ", "), orderMeaning(o))
	}
	b.WriteString("\n## Types of slots\n\nA slot is `<name:type>`; `<name>` is of type `word`, `<name=word>` is a word that may stand " +
		"there, and then a flag that is set; `<_:type>` is a value of no consequence.\n\n| type | takes |\n| --- | --- |\n")
	types := BuiltIn()
	for _, name := range slices.Sorted(maps.Keys(types)) {
		fmt.Fprintf(&b, "| `%s` | %s |\n", name, cell(types[name].Says))
	}
	b.WriteString("\n`vocabulary` adds types of the language's own words:\n\n| type | its words mean |\n| --- | --- |\n")
	for _, name := range slices.Sorted(maps.Keys(registries)) {
		fmt.Fprintf(
			&b,
			"| `%s` | IANA's name, with the size of the key where there are several (`ENCR_AES_CBC 256`), or its number |\n",
			name,
		)
	}
	fmt.Fprintf(
		&b,
		"| `%s` | a whole proposal: IANA's names with `+` between them (`ENCR_AES_GCM_16 256 + PRF_HMAC_SHA2_384 + 20`) |\n",
		suite,
	)
	for _, of := range []struct {
		name  string
		words []string
	}{
		{"action", slices.Sorted(maps.Keys(actions))}, {"flag", slices.Sorted(maps.Keys(flags))},
		{"initiation", slices.Sorted(maps.Keys(starts))}, {"method", slices.Sorted(maps.Keys(methods))},
		{"mode", slices.Sorted(maps.Keys(modes))}, {"states", slices.Sorted(maps.Keys(states))},
		{"translation", slices.Sorted(maps.Keys(translations))}, {"version", slices.Sorted(maps.Keys(versions))},
	} {
		fmt.Fprintf(&b, "| `%s` | one of `%s` |\n", of.name, strings.Join(of.words, "`, `"))
	}
	b.WriteString("\n## Settings\n\n`sets` gives them values: of slots of these types, or written as such. " +
		"[settings.md](settings.md) says what each is.\n\n| setting | of | types |\n| --- | --- | --- |\n")
	for _, r := range settings.All() {
		if r.Takes() == nil || r.Name == "pfs" {
			continue
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", r.Name, r.Of, strings.Join(typesOf(r.Takes()), ", "))
	}
	for _, what := range slices.Sorted(maps.Keys(facts())) {
		fmt.Fprintf(&b, "\n## %s\n\n| part | meaning | types |\n| --- | --- | --- |\n", what)
		for _, key := range slices.Sorted(maps.Keys(facts()[what])) {
			p := facts()[what][key]
			about := p.about
			if p.must {
				about += " (there is none without it)"
			}
			types := strings.Join(p.types, ", ")
			if p.says != nil {
				types = strings.TrimPrefix(types+"; or written", "; ")
			}
			fmt.Fprintf(&b, "| `%s` | %s | %s |\n", key, cell(about), types)
		}
	}
	return b.String()
}

// cell is a text as it may stand in a table.
func cell(text string) string { return strings.ReplaceAll(text, "|", "\\|") }

// orderMeaning says what an order of work means.
func orderMeaning(o string) string {
	words := map[string]string{
		"destination access source tunnel": "as Linux: access rules see translated destinations; the tunnel is chosen by " +
			"translated sources, " +
			"so that NAT must be exempted",
		"access destination source tunnel": "access rules see destinations as packets came in",
		"destination access tunnel source": "the tunnel is chosen before the source is translated: what a tunnel takes is not translated",
		"access destination tunnel source": "both",
	}
	return words[o]
}

// typesOf are the types of slots that a setting's value can be made of.
func typesOf(t reflect.Type) []string {
	if c, ok := lists()[t]; ok {
		return c.types
	}
	return singles()[t].types
}
