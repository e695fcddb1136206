package project

import (
	"fmt"
	"strings"
)

// Schema returns the JSON Schema (draft 2020-12) of the project file.
func Schema() map[string]any {
	s := objectSchema(topKeys)
	s["$schema"] = "https://json-schema.org/draft/2020-12/schema"
	s["title"] = "Hemzo project file"
	return s
}

func objectSchema(keys []key) map[string]any {
	properties := map[string]any{}
	var needed []string
	for _, k := range keys {
		s := valueSchema(k)
		s["description"] = k.doc
		properties[k.name] = s
		if k.required {
			needed = append(needed, k.name)
		}
	}
	s := map[string]any{"type": "object", "additionalProperties": false, "properties": properties}
	if needed != nil {
		s["required"] = needed
	}
	return s
}

func valueSchema(k key) map[string]any {
	one := map[string]any{"type": []string{"string", "number", "boolean"}}
	if k.values != nil {
		one = map[string]any{"enum": k.values}
	}
	switch k.kind {
	case aObject:
		return objectSchema(k.keys)
	case aNamed:
		value := objectSchema(k.keys)
		if k.name == "profiles" {
			value = partial(value)
		}
		return map[string]any{"type": "object", "propertyNames": map[string]any{"pattern": nameRule().String()},
			"additionalProperties": value}
	case aList:
		return map[string]any{"type": "array", "items": objectSchema(k.keys)}
	case aTextMap:
		return map[string]any{"type": "object", "additionalProperties": one}
	case aTexts, aWords, aPaths:
		return map[string]any{"anyOf": []any{one, map[string]any{"type": "array", "items": one}}}
	case aFlag:
		return map[string]any{"type": "boolean"}
	case aNumber:
		return map[string]any{"type": "integer", "minimum": 0}
	case aText, aPath, aSize, aSpan, aListener, aWord:
		return one
	}
	panic("a key without a type: " + k.name)
}

// partial is a schema without its required keys, for a profile's databases.
func partial(s map[string]any) map[string]any {
	out := map[string]any{}
	for k, v := range s {
		if k == "required" {
			continue
		}
		if m, ok := v.(map[string]any); ok && k != "items" {
			v = partial(m)
		}
		out[k] = v
	}
	return out
}

// Page returns the table of all keys in Markdown.
func Page() string {
	var b strings.Builder
	b.WriteString("| key | type | default | meaning |\n|---|---|---|---|\n")
	rows(&b, "", topKeys)
	return b.String()
}

func rows(b *strings.Builder, below string, keys []key) {
	for _, k := range keys {
		kind, preset := string(k.kind), k.preset
		if k.values != nil {
			kind = strings.Join(k.values, ", ")
			if k.kind == aWords {
				kind = "one or a list of " + kind
			}
		}
		switch {
		case k.required:
			preset = "(required)"
		case preset == "":
			preset = "-"
		}
		name := below + k.name
		fmt.Fprintf(b, "| `%s` | %s | %s | %s |\n", name, kind, preset, k.doc)
		switch {
		case k.name == "profiles":
			// The keys of the base, listed above.
		case k.kind == aNamed:
			rows(b, name+".NAME.", k.keys)
		case k.kind == aList:
			rows(b, name+"[].", k.keys)
		case k.kind == aObject:
			rows(b, name+".", k.keys)
		}
	}
}
