package nftables

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"toril/model"

	"toril/read"
	"toril/source"
	"toril/syntax"
	"toril/syntax/nft"
)

// JSON is the format of "nft -j list ruleset" (libnftables-json(5)).
var JSON = &read.Format{
	Name:     "nftables-json",
	Title:    "packet filter nftables: the output of nft -j list ruleset",
	Software: "nftables",
	About:    model.AboutFilter,
	Linux:    true,
	Hints:    []string{"nft*.json", "ruleset*.json"},
	Order:    30,
	Words: func() []string {
		return slices.Concat(
			slices.Sorted(maps.Keys(keywords())),
			slices.Sorted(maps.Keys(forms())),
			[]string{"state", "status", "direction", "label", "helper", "event", "iif", "oif"},
		)
	},
	Looks: func(f *source.File) (int, string) {
		head := bytes.TrimSpace(f.Head())
		if bytes.HasPrefix(head, []byte("{")) && bytes.Contains(head[:min(len(head), 200)], []byte(`"nftables"`)) {
			return 95, `it is JSON with the member "nftables"`
		}
		return 0, ""
	},
	Read: readJSON,
	Covers: read.Rows(
		read.Coverage{
			Statement: "table, chain, rule, set, map, element, and add, insert, create of them",
			Use:       read.Used,
			Note:      "every expression is read as its text form",
		},
		read.Coverage{
			Statement: "counter, limit, quota, ct helper, ct timeout, flowtable, secmark, synproxy",
			Use:       read.Irrelevant,
			Note:      "declared; they decide about no first packet",
		},
		read.Coverage{Statement: "expressions without a text form (raw payload, xt)", Use: read.Left},
	),
}

// readJSON writes every object as the text that it stands for, and reads that.
func readJSON(in *read.Input) {
	in.Gateway.Told.Filter4, in.Gateway.Told.Filter6 = true, true
	rs := newRuleset(in)
	j := &jsonReader{rs: rs, in: in}
	j.file()
	rs.finish(in)
}

type jsonReader struct {
	rs *ruleset
	in *read.Input
}

// file streams the array of objects: one that is broken ends the reading, as nothing behind it can be told apart.
func (j *jsonReader) file() {
	dec := json.NewDecoder(bytes.NewReader(j.in.File.Bytes()))
	dec.UseNumber()
	for depth := 0; ; {
		t, err := dec.Token()
		if err != nil {
			j.in.Lost(j.in.Here(dec), "it is not JSON of a ruleset: %v", err)
			return
		}
		if d, ok := t.(json.Delim); ok && d == '[' {
			break
		} else if ok && d == '{' {
			depth++
		}
		if depth > 1 {
			j.in.Lost(j.in.At(1), `the member "nftables" is not an array`)
			return
		}
	}
	j.in.Objects(dec, func(raw json.RawMessage, at source.Pos) {
		if err := j.object(raw, at); err != nil {
			j.in.Unread(at, read.Owner{}, "%s", source.Clean(err.Error()))
		}
	})
}

func (j *jsonReader) object(raw json.RawMessage, at source.Pos) error {
	var o map[string]any
	dec := json.NewDecoder(bytes.NewReader(raw))
	dec.UseNumber()
	if err := dec.Decode(&o); err != nil {
		return fmt.Errorf("an object was expected: %v", err)
	}
	for kind, v := range o {
		body, _ := v.(map[string]any)
		switch kind {
		case "metainfo", "flush", "delete", "destroy", "reset", "list":
			j.in.Count()
		case "add", "create", "insert", "replace":
			for k, inner := range body {
				b, _ := inner.(map[string]any)
				return j.declare(kind, k, b, at)
			}
		default:
			return j.declare("add", kind, body, at)
		}
	}
	return nil
}

func (j *jsonReader) declare(verb, kind string, o map[string]any, at source.Pos) error {
	where := word1(o["family"]) + " " + word1(o["table"])
	j.rs.tables[where] = true // also where a chain or a set is listed by itself
	if id := where + " " + word1(o["chain"]); kind == "rule" && o["chain"] != nil && j.rs.byID[id] == nil {
		(&parser{ruleset: j.rs, in: j.in}).chainOf(word1(o["family"]), word1(o["table"]), word1(o["chain"]), at)
	}
	name := word1(o["name"])
	var text string
	switch kind {
	case "table":
		flags := joined(o["flags"], ", ")
		if flags != "" {
			flags = "flags " + flags + ";"
		}
		text = "table " + word1(o["family"]) + " " + name + " { " + flags + " }"
	case "chain":
		text = "chain " + where + " " + name + " { "
		if o["hook"] != nil {
			text += fmt.Sprintf("type %s hook %s priority %s; ", word1(o["type"]), word1(o["hook"]), word1(o["prio"]))
		}
		if o["policy"] != nil {
			text += "policy " + word1(o["policy"]) + "; "
		}
		text += "}"
	case "set", "map":
		text = kind + " " + where + " " + name + " { type " + joined(o["type"], " . ")
		if kind == "map" {
			text += " : " + joined(o["map"], " . ")
		}
		text += "; "
		if flags := joined(o["flags"], ", "); flags != "" {
			text += "flags " + flags + "; "
		}
		if elems, ok := o["elem"].([]any); ok && len(elems) > 0 {
			body, err := elements(elems, 0)
			if err != nil {
				return err
			}
			text += "elements = " + body + "; "
		}
		text += "}"
	case "element":
		elems, _ := o["elem"].([]any)
		body, err := elements(elems, 0)
		if err != nil {
			return err
		}
		text = "element " + where + " " + name + " " + body
	case "rule":
		return j.rule(verb, where, o, at)
	case "counter", "limit", "quota", "ct helper", "ct timeout", "ct expectation", "flowtable", "secmark", "synproxy":
		text = "table " + where + " { " + kind + " " + name + " { }; }"
	default:
		return fmt.Errorf("%q is not a known object", kind)
	}
	j.feed(text, at)
	return nil
}

func (j *jsonReader) rule(verb, where string, o map[string]any, at source.Pos) error {
	stmts, _ := o["expr"].([]any)
	text := verb + " rule " + where + " " + word1(o["chain"])
	id := where + " " + word1(o["chain"])
	for _, s := range stmts {
		t, err := statement(s)
		if err != nil {
			j.in.Unread(at, read.Owner{Name: id, Harmless: true}, // the rule is read as one that may do anything
				"%s", source.Clean(err.Error()))
			t = anything
		}
		text += " " + t
	}
	if c, ok := o["comment"].(string); ok {
		text += " comment " + quoted(c)
	}
	j.feed(text, at)
	return nil
}

// feed reads a text of the text format that was made of the object there.
func (j *jsonReader) feed(text string, at source.Pos) {
	p := &parser{ruleset: j.rs, in: j.in, lex: nft.ScanMade(text, syntax.Place{Line: at.Line, Col: at.Col, Range: at.Range})}
	p.file()
}

// anything stands for a statement that may do anything.
const anything = "tproxy"

// maxNesting bounds how deep expressions may nest.
const maxNesting = 64

func word1(v any) string {
	switch t := v.(type) {
	case nil:
		return ""
	case string:
		return plain(t)
	case json.Number:
		return t.String()
	}
	return "?"
}

// plain writes a word so that it stays one word: in quotation marks unless it needs none.
func plain(s string) string {
	if s == "" {
		return `""`
	}
	colons := strings.Contains(s, ":") && !address(s) && !hardware(s)
	for i := range len(s) {
		if !nft.WordByte(s[i]) && s[i] != ':' || s[i] == '$' || colons {
			return quoted(s)
		}
	}
	return s
}

func quoted(s string) string {
	return `"` + strings.Map(func(r rune) rune {
		if r == '"' || r == '\n' || r == '\r' {
			return ' '
		}
		return r
	}, s) + `"`
}

func joined(v any, sep string) string {
	list, ok := v.([]any)
	if !ok {
		return word1(v)
	}
	parts := make([]string, len(list))
	for i, e := range list {
		parts[i] = word1(e)
	}
	return strings.Join(parts, sep)
}

func elements(list []any, depth int) (string, error) {
	parts := make([]string, 0, len(list))
	for _, e := range list {
		if pair, ok := e.([]any); ok && len(pair) == 2 {
			k, err := expression(pair[0], depth+1)
			if err != nil {
				return "", err
			}
			v, err := verdictOr(pair[1], depth+1)
			if err != nil {
				return "", err
			}
			parts = append(parts, k+" : "+v)
			continue
		}
		t, err := expression(e, depth+1)
		if err != nil {
			return "", err
		}
		parts = append(parts, t)
	}
	return "{ " + strings.Join(parts, ", ") + " }", nil
}

func verdictOr(v any, depth int) (string, error) {
	if o, ok := v.(map[string]any); ok && len(o) == 1 {
		for k := range o {
			switch k {
			case "accept", "drop", "continue", "return", "jump", "goto", "reject":
				return statement(v)
			}
		}
	}
	return expression(v, depth)
}

// expression writes an expression or a value.
func expression(v any, depth int) (string, error) {
	if depth > maxNesting {
		return "", fmt.Errorf("expressions nest more than %d deep", maxNesting)
	}
	switch t := v.(type) {
	case string:
		return plain(t), nil
	case json.Number:
		return t.String(), nil
	case bool:
		if t {
			return "exists", nil
		}
		return "missing", nil
	case []any: // any of several bits
		return list(t, ",", depth)
	case map[string]any:
		for _, k := range slices.Sorted(maps.Keys(t)) {
			return object(k, t[k], depth)
		}
	}
	return "", fmt.Errorf("%v is not an expression", v)
}

func list(items []any, sep string, depth int) (string, error) {
	parts := make([]string, len(items))
	for i, e := range items {
		t, err := expression(e, depth+1)
		if err != nil {
			return "", err
		}
		parts[i] = t
	}
	return strings.Join(parts, sep), nil
}

// object writes an expression. It is long as a table is: a case a kind of expression.
func object(kind string, v any, depth int) (string, error) {
	o, _ := v.(map[string]any)
	items, _ := v.([]any)
	switch kind {
	case "prefix":
		return word1(o["addr"]) + "/" + word1(o["len"]), nil
	case "range":
		return list(items, "-", depth)
	case "concat":
		return list(items, " . ", depth)
	case "set":
		return elements(items, depth)
	case "elem":
		return expression(o["val"], depth+1)
	case "|":
		return list(items, ",", depth)
	case "&", "^", "<<", ">>":
		return list(items, " "+kind+" ", depth)
	case "map":
		k, err := expression(o["key"], depth+1)
		if err != nil {
			return "", err
		}
		d, err := expression(o["data"], depth+1)
		return k + " map " + d, err
	case "payload":
		if o["protocol"] == nil {
			return "@" + unless(o["base"], "nh") + "," + unless(o["offset"], "0") + "," + unless(o["len"], "0"), nil
		}
		return word1(o["protocol"]) + " " + word1(o["field"]), nil
	case "meta":
		return "meta " + word1(o["key"]), nil
	case "ct":
		parts := []string{"ct"}
		for _, k := range []string{"dir", "family", "key"} {
			if o[k] != nil {
				parts = append(parts, strings.Trim(word1(o[k]), `"`))
			}
		}
		return strings.Join(parts, " "), nil
	case "ipsec":
		out := "ipsec " + word1(o["dir"])
		if n := word1(o["spnum"]); n != "" && n != "0" {
			out += " spnum " + n
		}
		if o["family"] != nil {
			out += " " + word1(o["family"])
		}
		return out + " " + word1(o["key"]), nil
	case "rt":
		out := "rt "
		if o["family"] != nil {
			out += word1(o["family"]) + " "
		}
		return out + word1(o["key"]), nil
	case "fib":
		return "fib " + joined(o["flags"], " . ") + " " + word1(o["result"]), nil
	case "tcp option":
		return "tcp option " + strings.TrimSpace(unless(o["name"], "0")+" "+word1(o["field"])), nil
	case "ip option":
		return "ip option " + strings.TrimSpace(unless(o["name"], "0")+" "+word1(o["field"])), nil
	case "exthdr":
		if o["field"] == nil {
			return "exthdr " + unless(o["name"], "hbh"), nil
		}
		return unless(o["name"], "hbh") + " " + word1(o["field"]), nil
	case "socket", "osf":
		return kind + " " + unless(o["key"], "name"), nil
	case "numgen", "jhash", "symhash":
		return kind + " mod " + unless(o["mod"], "1"), nil
	case "sctp chunk", "dccp option":
		return "exthdr " + strings.ReplaceAll(kind, " ", "-"), nil
	}
	return "", fmt.Errorf("%q is an expression that is not known", kind)
}

// unless writes a word, and another one where it is missing.
func unless(v any, other string) string {
	if w := word1(v); w != "" {
		return w
	}
	return other
}

// statement writes one statement of a rule. It is long as a table is: a case a statement.
func statement(v any) (string, error) {
	if s, ok := v.(string); ok { // "accept" and the like, as older versions write them
		if inline(s) {
			return s, nil
		}
		return plain(s), nil
	}
	m, ok := v.(map[string]any)
	if !ok || len(m) != 1 {
		return "", fmt.Errorf("a statement was expected")
	}
	for kind, v := range m {
		o, _ := v.(map[string]any)
		switch kind {
		case "accept", "drop", "continue", "return", "notrack":
			return kind, nil
		case "jump", "goto":
			return kind + " " + word1(o["target"]), nil
		case "match":
			return match(o)
		case "reject":
			return "reject", nil
		case "queue":
			return "queue", nil
		case "log":
			return "log", nil
		case "counter":
			if s, ok := v.(string); ok {
				return "counter name " + quoted(s), nil
			}
			if o != nil {
				return "counter packets " + unless(o["packets"], "0") + " bytes " + unless(o["bytes"], "0"), nil
			}
			return "counter", nil
		case "limit", "quota":
			if s, ok := v.(string); ok {
				return kind + " name " + quoted(s), nil
			}
			if kind == "quota" {
				return "quota 1 bytes", nil
			}
			return "limit rate 1/second", nil
		case "masquerade", "redirect", "snat", "dnat":
			return translation(kind, o)
		case "mangle":
			key, err := expression(o["key"], 0)
			if err != nil {
				return "", err
			}
			value, err := expression(o["value"], 0)
			return key + " set " + value, err
		case "vmap":
			key, err := expression(o["key"], 0)
			if err != nil {
				return "", err
			}
			data, err := expression(o["data"], 0)
			return key + " vmap " + data, err
		case "set", "map":
			elem, err := expression(o["elem"], 0)
			if err == nil && o["data"] != nil {
				var data string
				data, err = expression(o["data"], 0)
				elem += " : " + data
			}
			return word1(o["op"]) + " " + word1(o[kind]) + " { " + elem + " }", err
		case "ct count":
			return "ct count " + unless(o["val"], "0"), nil
		case "fwd", "dup", "tproxy", "synproxy":
			return kind, nil
		case "flow":
			return "flow add x", nil
		case "ct helper", "ct timeout", "ct expectation", "secmark":
			return "ct helper set x", nil
		case "last", "nftrace":
			return "last", nil
		}
		return "", fmt.Errorf("%q is a statement that is not modelled", kind)
	}
	return "", nil
}

// inline reports whether a text is a jump to a chain without a name, which the program has no JSON for and gives as its text.
func inline(s string) bool {
	if !strings.HasPrefix(s, "jump {") && !strings.HasPrefix(s, "goto {") {
		return false
	}
	lex, depth := nft.Scan([]byte(s)), 0
	for t := lex.Next(); t.Kind != nft.End; t = lex.Next() {
		switch {
		case t.Is("{") || t.Is("("):
			depth++
		case t.Is("}") || t.Is(")"):
			if depth--; depth == 0 {
				return lex.Next().Kind == nft.End && !lex.Open
			}
		}
	}
	return false
}

func match(o map[string]any) (string, error) {
	left, err := expression(o["left"], 0)
	if err != nil {
		return "", err
	}
	right, err := expression(o["right"], 0)
	if err != nil {
		return "", err
	}
	op := word1(o["op"])
	op = strings.Trim(op, `"`)
	if masked, _ := o["left"].(map[string]any); (op == "in" || op == "==") && masked["&"] == nil {
		op = ""
	}
	return strings.Join(strings.Fields(left+" "+op+" "), " ") + " " + right, nil
}

func translation(kind string, o map[string]any) (string, error) {
	out := kind
	if f := word1(o["family"]); f != "" {
		out += " " + f
	}
	flags := joined(o["type_flags"], " ")
	if strings.Contains(flags, "prefix") {
		out += " prefix"
	}
	target := ""
	if o["addr"] != nil {
		t, err := expression(o["addr"], 0)
		if err != nil {
			return "", err
		}
		target = t
		if o["port"] != nil && strings.Contains(t, ":") && !strings.Contains(t, " ") {
			target = "[" + t + "]"
		}
	}
	if o["port"] != nil {
		t, err := expression(o["port"], 0)
		if err != nil {
			return "", err
		}
		target += ":" + t
	}
	if target != "" {
		out += " to " + target
	}
	return out, nil
}
