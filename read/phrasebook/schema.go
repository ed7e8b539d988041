package phrasebook

import (
	"maps"
	"reflect"
	"slices"
	"strings"

	"toril/model/settings"
	"toril/syntax/statements"
)

// Schema is the JSON Schema of phrasebooks, made of the document as it is read and of the table of settings.
func Schema() map[string]any {
	s := schemaOf(reflect.TypeFor[document]())
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "A phrasebook of Toril's"
	s["required"] = []string{"language", "phrases", "syntax", "title"}
	s["$defs"] = map[string]any{"phrase": schemaOf(reflect.TypeFor[ruleText]())}
	return s
}

// schemaOf is the schema of a struct.
func schemaOf(t reflect.Type) map[string]any {
	of := map[string]any{}
	for i := range t.NumField() {
		f := t.Field(i)
		name := f.Tag.Get("yaml")
		one := kindOf(f.Type)
		if special := narrow(t.Name(), name); special != nil {
			maps.Copy(one, special)
		}
		one["description"] = f.Tag.Get("says")
		of[name] = one
	}
	return map[string]any{"type": "object", "additionalProperties": false, "properties": of}
}

// kindOf is the schema of a type.
func kindOf(t reflect.Type) map[string]any {
	switch t.Kind() {
	case reflect.Bool:
		return map[string]any{"type": "boolean"}
	case reflect.Slice:
		return map[string]any{"type": "array", "items": kindOf(t.Elem())}
	case reflect.Map:
		return map[string]any{"type": "object", "additionalProperties": kindOf(t.Elem())}
	case reflect.Pointer:
		return kindOf(t.Elem())
	case reflect.Struct:
		if t == reflect.TypeFor[ruleText]() {
			return map[string]any{"$ref": "#/$defs/phrase"}
		}
		return schemaOf(t)
	}
	return map[string]any{"type": []string{"string", "number", "boolean"}} // YAML makes numbers of some texts
}

// narrow is what a key takes beside its type.
func narrow(of, key string) map[string]any {
	names := func(words ...string) map[string]any {
		slices.Sort(words)
		return map[string]any{"enum": words}
	}
	keys := func(words ...string) map[string]any {
		return map[string]any{"propertyNames": names(words...)}
	}
	var set, kindWords, make []string
	for _, r := range settings.All() {
		if r.Takes() != nil && r.Name != "pfs" {
			set = append(set, r.Name)
		}
	}
	for _, k := range statements.Kinds() {
		kindWords = append(kindWords, string(k))
	}
	for _, m := range makers {
		make = append(make, string(m))
	}
	parts := append(slices.Collect(maps.Keys(registries)), "of")
	switch of + "." + key {
	case "syntaxText.kind":
		return names(kindWords...)
	case "document.order":
		return map[string]any{"items": names("destination", "access", "source", "tunnel")}
	case "document.vocabulary":
		return keys(slices.Concat(slices.Collect(maps.Keys(registries)), slices.Collect(maps.Keys(literals())))...)
	case "defaultText.sets":
		return names(set...)
	case "ruleText.sets":
		return keys(set...)
	case "ruleText.makes":
		return names(make...)
	case "ruleText.again":
		return names(addsToIt, replacesIt, isIgnored)
	case "ruleText.offers", "ruleText.parts", "defaultText.offers":
		return keys(parts...)
	case "chainText.hook":
		return names(slices.Collect(maps.Keys(hooks))...)
	case "chainText.policy":
		return names(slices.Collect(maps.Keys(actions))...)
	case "listText.end":
		return names(slices.Collect(maps.Keys(ends))...)
	}
	if what, ok := strings.CutPrefix(of, "ruleText"); ok && what == "" && facts()[key] != nil {
		return keys(slices.Collect(maps.Keys(facts()[key]))...)
	}
	return nil
}
