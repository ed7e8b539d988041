// Package gendocs makes the documents that are written from the program itself: the pages of the checks, the table of
// formats, the JSON Schema of baselines. A test compares them with what lies in docs/.
package gendocs

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"

	"toril/audit/suite"
	"toril/baseline"
	"toril/ike"
	"toril/read"
	"toril/read/formats"
	"toril/read/phrasebook"
	"toril/report/markdown"
)

// Files returns every generated document by its path below docs/. Samples are read below root, the folder of the module.
func Files(root string) (map[string]string, error) {
	var bs []*baseline.Baseline
	for _, name := range baseline.Names() {
		b, err := baseline.Named(name)
		if err != nil {
			return nil, err
		}
		bs = append(bs, b)
	}
	out := map[string]string{"checks/README.md": markdown.ChecksIndex(suite.All(), bs), "formats.md": formatsPage()}
	for _, c := range suite.All() {
		out["checks/"+markdown.PageName(c)] = markdown.CheckPage(c, bs)
	}
	maps.Copy(out, commandPages())
	page, err := settingsPage(root)
	if err != nil {
		return nil, err
	}
	out["settings.md"] = page
	out["phrasebooks-reference.md"] = phrasebook.Reference()
	for name, schema := range map[string]any{"baseline": baselineSchema(), "phrasebook": phrasebook.Schema()} {
		text, err := json.MarshalIndent(schema, "", "  ")
		if err != nil {
			return nil, err
		}
		out["schema/"+name+".schema.json"] = string(text) + "\n"
	}
	return out, nil
}

func formatsPage() string {
	var b strings.Builder
	b.WriteString("# Saved formats\n\nWritten by `go generate ./...` from the readers' own declarations; change them there. " +
		"\"Used\" statements are in the model, \"irrelevant\" ones are read and have no bearing on what an auditor asks, and what is " +
		"\"left unread\" is reported with its line. " +
		"So is every statement that stands in no table here.\n")
	for _, f := range formats.All() {
		fmt.Fprintf(
			&b,
			"\n## %s\n\n%s. Usual file names: %s.\n\n| statement | what the reader does | note |\n| --- | --- | --- |\n",
			f.Name,
			f.Title,
			"`"+strings.Join(f.Hints, "`, `")+"`",
		)
		for _, use := range []read.Use{read.Used, read.Irrelevant, read.Left} {
			for _, c := range f.Covers() {
				if c.Use == use {
					fmt.Fprintf(&b, "| `%s` | %s | %s |\n", strings.ReplaceAll(c.Statement, "|", "\\|"), c.Use, c.Note)
				}
			}
		}
		if len(f.Departures) > 0 {
			fmt.Fprintf(
				&b,
				"\nThousands of damaged texts were given to the program and to Toril (`lab/formats`). They differ where:\n\n"+
					"| %s says | why Toril does not |\n| --- | --- |\n",
				f.Software,
			)
			for _, d := range f.Departures {
				fmt.Fprintf(&b, "| %s | %s |\n", strings.ReplaceAll(d.Says, "|", "\\|"), d.Why)
			}
		}
	}
	return b.String()
}

type object = map[string]any

func oneOf(words []string) object { return object{"enum": words} }

func listOf(item object) object { return object{"type": "array", "items": item} }

func closed(properties object, required ...string) object {
	return object{"type": "object", "properties": properties, "required": append([]string{}, required...), "additionalProperties": false}
}

// baselineSchema describes a site's own baseline for editors (JSON Schema 2020-12).
func baselineSchema() object {
	text, yes := object{"type": "string"}, object{"type": "boolean"}
	levels := oneOf([]string{"MUST NOT", "SHOULD NOT", "MAY", "MUST-", "SHOULD", "SHOULD+", "MUST"})
	with := func(more object) object {
		all := object{"document": text, "section": text, "unverified": yes, "note": text}
		for k, v := range more {
			all[k] = v
		}
		return all
	}
	var names []string
	for _, a := range ike.Catalogue {
		if r := a.Registry; (r <= ike.KeyExchange || r == ike.AuthMethod) && !slices.Contains(names, a.Name) {
			names = append(names, a.Name)
		}
	}
	slices.Sort(names)
	rule := closed(
		with(
			object{
				"for":  listOf(oneOf([]string{"ike", "esp", "ah"})),
				"type": oneOf([]string{"encryption", "prf", "integrity", "key-exchange", "authentication"}),
				"names": listOf(
					oneOf(append(names, "*")),
				),
				"bits":  listOf(object{"type": "integer"}),
				"level": levels,
			},
		),
		"for",
		"type",
		"names",
		"level",
	)
	quantity := object{"type": []string{"string", "number"}, "description": "a number, a time (s, min, h, d) or a size (KiB, MiB, GiB)"}
	limits, demands := object{}, object{}
	for _, k := range baseline.LimitKinds() {
		may := object{"level": levels}
		if k.Most {
			may["most"] = quantity
		}
		if k.Least {
			may["least"] = quantity
		}
		l := closed(with(may))
		l["description"] = k.About
		limits[k.Name] = l
	}
	for _, k := range baseline.DemandKinds() {
		d := closed(with(object{"level": levels}), "level")
		d["description"] = k.About
		demands[k.Name] = d
	}
	body := object{"algorithms": listOf(rule), "limits": closed(limits), "demands": closed(demands)}
	scope := object{"gateways": listOf(text), "partners": listOf(text)}
	top := object{"name": text, "title": text, "about": text, "extends": oneOf(baseline.Names()),
		"documents": listOf(closed(object{"name": text, "title": text, "year": object{"type": "integer"}}, "name"))}
	for k, v := range body {
		scope[k], top[k] = v, v
	}
	top["scopes"] = listOf(closed(scope))
	s := closed(top, "name")
	s["$schema"], s["$id"], s["title"] = "https://json-schema.org/draft/2020-12/schema",
		"https://toril.example/schema/baseline.schema.json", "A baseline of Toril"
	return s
}
