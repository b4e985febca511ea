// Package schema describes records and documents as JSON Schemas (draft 2020-12, as OpenAPI 3.1 has it), from the descriptors of the
// package policy and the words of the package wording: for the description of the interface, and for editors that complete and check a document
// while one types.
package schema

import (
	"encoding/json"
	"slices"

	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wording"
)

// Schema is a JSON Schema.
type Schema map[string]any

// JSON writes the schema.
func (s Schema) JSON() []byte {
	body, err := json.MarshalIndent(s, "", "  ")
	if err != nil {
		panic("schema: a schema does not marshal: " + err.Error())
	}
	return append(body, '\n')
}

const idPattern = "^[a-z0-9][a-z0-9._@+-]{0,127}$"

// Set gathers named schemas, each once.
type Set struct {
	Ref   string // before the name of a schema in a reference: “#/$defs/”
	Named map[string]Schema
}

// NewSet begins a set whose schemas refer to each other by ref and their names.
func NewSet(ref string) *Set { return &Set{ref, map[string]Schema{}} }

func (s *Set) ref(name string) Schema { return Schema{"$ref": s.Ref + name} }

// TypeNamed is the type of record of a name that is known to be one.
func TypeNamed(plural string) policy.Type {
	t, ok := policy.TypeNamed(plural)
	if !ok {
		panic("schema: " + plural + " is no type of record")
	}
	return t
}

// Record puts the schema of a type of record, and those of what it is made of, into the set, and gives a reference to it.
func (s *Set) Record(t policy.Type) Schema {
	d := policy.Describe(t)
	if s.Named[d.Name] == nil {
		s.Named[d.Name] = Schema{} // it is on its way
		out := s.object(t, d.Fields, false)
		out["description"] = "A " + d.Singular + "."
		if t == policy.SettingsType {
			out["description"] = "What holds for the whole policy."
		}
		if example := examples[d.Name]; example != nil {
			out["examples"] = []any{example}
		}
		s.Named[d.Name] = out
	}
	return s.ref(d.Name)
}

// Input puts the schema of a type of record as it is sent into the set, and gives a reference to it: the id stands in the path, or is made
// from the name.
func (s *Set) Input(t policy.Type) Schema {
	d := policy.Describe(t)
	name := d.Name + "Input"
	if s.Named[name] == nil {
		fields := slices.Clone(d.Fields)
		for i := range fields {
			fields[i].Required = fields[i].Required && fields[i].Kind != policy.IDField
		}
		out := s.object(t, fields, false)
		out["description"] = "A " + d.Singular + " as it is sent: the id stands in the path, or is made from the name where it is left out."
		s.Named[name] = out
	}
	return s.ref(name)
}

// Patch puts the schema of a JSON Merge Patch (RFC 7396) of a type of record into the set, and gives a reference to it.
func (s *Set) Patch(t policy.Type) Schema {
	d := policy.Describe(t)
	name := d.Name + "Patch"
	if s.Named[name] == nil {
		out := s.object(t, d.Fields, true)
		out["description"] = "What changes of a " + d.Singular + ", as a JSON Merge Patch: null takes a field away."
		s.Named[name] = out
	}
	return s.ref(name)
}

// object describes an object of some fields. In a patch each can be left out, or be null.
func (s *Set) object(t policy.Type, fields []policy.Field, patch bool) Schema {
	properties, required := Schema{}, []string{}
	for _, f := range fields {
		properties[f.Name] = s.field(t, f, patch)
		if f.Required && !patch {
			required = append(required, f.Name)
		}
	}
	out := Schema{"type": "object", "properties": properties, "additionalProperties": false}
	if len(required) > 0 {
		out["required"] = required
	}
	return out
}

func (s *Set) field(t policy.Type, f policy.Field, patch bool) Schema {
	one := s.value(t, f, patch && !f.Many)
	if f.Many {
		one = Schema{"type": "array", "items": one}
	}
	switch kind, plain := one["type"].(string); {
	case patch && plain:
		one["type"] = []string{kind, "null"}
		if list, ok := one["enum"].([]any); ok {
			one["enum"] = append(slices.Clip(list), nil)
		}
	case patch:
		one = Schema{"oneOf": []Schema{one, {"type": "null"}}}
	}
	if text := wording.English.Meaning(t, f.Path); text != "" {
		one["description"] = text
	}
	return one
}

// value describes one value of a field.
func (s *Set) value(t policy.Type, f policy.Field, patch bool) Schema {
	switch f.Kind {
	case policy.IDField, policy.RefField:
		return Schema{"type": "string", "pattern": idPattern}
	case policy.PointField:
		return Schema{"type": "string", "pattern": "^[^/]+/[^/]+$", "examples": []any{"mill-bridge/deck"}}
	case policy.ChoiceField:
		list := make([]any, len(f.Choices))
		for i, c := range f.Choices {
			list[i] = c
		}
		return Schema{"type": "string", "enum": list}
	case policy.SwitchField:
		return Schema{"type": "boolean", "default": true}
	case policy.BoolField, policy.TriField:
		return Schema{"type": "boolean"}
	case policy.NumberField:
		return Schema{"type": "integer", "minimum": 0}
	case policy.InstantField:
		return Schema{"type": "string", "format": "date-time"}
	case policy.DateField:
		return Schema{"type": "string", "format": "date"}
	case policy.MonthDayField:
		return Schema{"type": "string", "pattern": "^[0-1][0-9]-[0-3][0-9]$", "examples": []any{"04-01"}}
	case policy.ClockField:
		return Schema{"type": "string", "pattern": "^([01][0-9]|2[0-3]):[0-5][0-9]$|^24:00$", "examples": []any{"07:30"}}
	case policy.NetworkField:
		return Schema{"type": "string", "examples": []any{"10.20.0.0/16", "2001:db8::/32"}}
	case policy.ZoneField:
		return Schema{"type": "string", "examples": []any{"Europe/Lisbon"}}
	case policy.LimitsField:
		s.Named["Limit"] = Schema{"description": "A number, or a list of texts.", "oneOf": []Schema{{"type": "number"}, {"type": "array", "items": Schema{"type": "string"}}}}
		return Schema{"type": "object", "additionalProperties": s.ref("Limit")}
	case policy.ObjectField:
		return s.part(t, f, patch)
	}
	out := Schema{"type": "string"}
	if f.Long {
		out["maxLength"] = 2000
	}
	return out
}

// part describes an object within a record by its name.
func (s *Set) part(t policy.Type, f policy.Field, patch bool) Schema {
	name := f.Object
	if patch {
		name += "Patch"
	}
	if s.Named[name] == nil {
		s.Named[name] = s.object(t, f.Fields, patch)
		if f.Object == "Member" {
			s.Named[name] = Schema{"description": "The id of a user, or a membership with its ends.", "oneOf": []Schema{{"type": "string", "pattern": idPattern}, s.Named[name]}}
		}
	}
	return s.ref(name)
}

const dialect = "https://json-schema.org/draft/2020-12/schema"

// Policy is the schema of policy documents.
func Policy() Schema {
	set := NewSet("#/$defs/")
	properties := Schema{
		"format":                     Schema{"const": document.PolicyFormat, "description": "The format of the document."},
		policy.SettingsType.String(): set.Record(policy.SettingsType),
	}
	for _, t := range policy.Types() {
		properties[t.String()] = Schema{"type": "array", "items": set.Record(t)}
	}
	return Schema{
		"$schema": dialect, "title": "Sentier policy document", "type": "object", "required": []string{"format"}, "properties": properties,
		"additionalProperties": false, "$defs": set.Named,
	}
}

// Expectations is the schema of files of expectations.
func Expectations() Schema {
	text := func(meaning string) Schema { return Schema{"type": "string", "description": meaning} }
	instant := func(meaning string) Schema {
		return Schema{"type": "string", "format": "date-time", "description": meaning}
	}
	flag := func(meaning string) Schema { return Schema{"type": "boolean", "description": meaning} }
	context := Schema{"type": "object", "description": "What is known of the circumstances.", "additionalProperties": false, "properties": Schema{
		"ip":             text("The address that is asked from."),
		"place":          text("The site at which the user is."),
		"strong_sign_in": flag("The user signed in with a second factor."),
		"attended":       flag("Someone is present at the device."),
	}}
	check := Schema{
		"type": "object", "additionalProperties": false, "required": []string{"user", "right", "device", "at", "expect"},
		"properties": Schema{
			"user": text("The id of a user."), "right": text("The id of a right."), "device": text("The id of a device, or device/point."),
			"at": instant("When it is asked."), "context": context,
			"expect": Schema{"enum": []any{"allow", "deny"}, "description": "What the answer must be."},
			"reason": text("The code of the reason, where it matters."),
			"until":  Schema{"description": "Until when the answer must hold, or never for no end; where it matters.", "oneOf": []Schema{{"type": "string", "format": "date-time"}, {"const": document.Never}}},
			"note":   text("For people."),
		},
	}
	return Schema{
		"$schema": dialect, "title": "Sentier expectations", "type": "object", "required": []string{"format", "checks"}, "additionalProperties": false,
		"properties": Schema{
			"format": Schema{"const": document.ExpectFormat, "description": "The format of the file."},
			"checks": Schema{"type": "array", "items": check},
		},
	}
}

// List puts the schema of a page of the records of a type into the set, and gives a reference to it.
func (s *Set) List(t policy.Type) Schema {
	name := policy.Describe(t).Name + "List"
	s.Named[name] = Schema{
		"type": "object", "description": "A page of " + t.Noun() + "s.", "required": []string{"items", "total"}, "properties": Schema{
			"items": Schema{"type": "array", "items": s.Record(t)},
			"total": Schema{"type": "integer", "description": "How many there are on all pages."},
			"next":  Schema{"type": "string", "description": "The cursor of the next page; left out on the last."},
		},
	}
	return s.ref(name)
}

// Examples gives the schemas of questions and answers those that there are for them.
func (s *Set) Examples(schemas map[string]any) {
	for name, example := range examples {
		if one, ok := schemas[name].(map[string]any); ok {
			one["examples"] = []any{example}
		}
	}
}
