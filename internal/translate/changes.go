package translate

import (
	"cmp"
	"encoding/json"
	"maps"
	"slices"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// Changes describes what was done to records, field by field.
func Changes(done []policy.RecordChange) []wire.RecordChange {
	out := []wire.RecordChange{}
	for _, c := range done {
		r := c.Record()
		change := wire.RecordChange{Op: "changed", Type: r.Type().String(), ID: r.Key(), Name: r.Title()}
		switch {
		case c.Before == nil:
			change.Op = "added"
		case c.After == nil:
			change.Op = "removed"
		default:
			change.Fields = fieldChanges(c)
		}
		out = append(out, change)
	}
	return out
}

func fieldChanges(c policy.RecordChange) []wire.FieldChange {
	before, after := c.Written()
	had, _ := object(before)
	has, _ := object(after)
	out := objectChanges("", had, has)
	added, dropped := c.Entries()
	if len(added)+len(dropped) > 0 {
		list := wire.FieldChange{Field: policy.Describe(c.Before.Type()).LongList}
		for _, e := range added {
			list.Added = append(list.Added, marshal(e))
		}
		for _, e := range dropped {
			list.Dropped = append(list.Dropped, marshal(e))
		}
		out = append(out, list)
		slices.SortFunc(out, func(a, b wire.FieldChange) int { return cmp.Compare(a.Field, b.Field) })
	}
	return out
}

// marshal writes an entry; one of a record always marshals.
func marshal(v any) json.RawMessage {
	body, err := json.Marshal(v)
	if err != nil {
		panic("translate: an entry does not marshal: " + err.Error())
	}
	return body
}

// objectChanges compares two objects field by field, and the objects in them likewise. Of lists whose entries are
// told apart by what they are, it tells what came and what went.
func objectChanges(prefix string, a, b map[string]json.RawMessage) []wire.FieldChange {
	names := maps.Clone(a)
	if names == nil {
		names = map[string]json.RawMessage{}
	}
	maps.Copy(names, b)
	var out []wire.FieldChange
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if string(a[name]) == string(b[name]) {
			continue
		}
		inA, okA := object(a[name])
		inB, okB := object(b[name])
		if okA && okB && len(inA)+len(inB) > 0 {
			out = append(out, objectChanges(prefix+name+".", inA, inB)...)
			continue
		}
		change := wire.FieldChange{Field: prefix + name, Before: a[name], After: b[name]}
		if plainList(a[name]) && plainList(b[name]) {
			change.Before, change.After = nil, nil
			change.Dropped, change.Added = entries(a[name], b[name]), entries(b[name], a[name])
		}
		out = append(out, change)
	}
	return out
}

// object reads an object; what is not there counts as an empty one.
func object(v json.RawMessage) (map[string]json.RawMessage, bool) {
	if v == nil {
		return nil, true
	}
	var out map[string]json.RawMessage
	return out, json.Unmarshal(v, &out) == nil
}

// plainList tells whether a value is a list of texts; what is not there is an empty one.
func plainList(v json.RawMessage) bool {
	var texts []string
	return v == nil || json.Unmarshal(v, &texts) == nil
}

// entries lists those of a list that are not in another.
func entries(of, without json.RawMessage) []json.RawMessage {
	read := func(list json.RawMessage) (out []json.RawMessage) {
		if list != nil && json.Unmarshal(list, &out) != nil {
			return []json.RawMessage{list}
		}
		return out
	}
	have := map[string]bool{}
	for _, e := range read(without) {
		have[string(e)] = true
	}
	return slices.DeleteFunc(read(of), func(e json.RawMessage) bool { return have[string(e)] })
}

// Count counts the records of a type, named as in a document.
func Count(p *policy.Policy, typeName string) int {
	t, _ := policy.TypeNamed(typeName)
	return p.Table(t).Len()
}
