package translate

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"

	"sentier/internal/policy"
	"sentier/internal/wire"
)

// Changes describes what was done to records, field by field.
func Changes(done []policy.RecordChange) []wire.Change {
	out := []wire.Change{}
	for _, c := range done {
		r := c.Record()
		change := wire.Change{Op: "changed", Type: r.Type().String(), ID: r.Key(), Name: r.Title()}
		switch {
		case c.Before == nil:
			change.Op = "added"
		case c.After == nil:
			change.Op = "removed"
		default:
			change.Fields = fieldChanges(c.Before, c.After)
		}
		out = append(out, change)
	}
	return out
}

// sets are the fields of which it is told what came and what went, rather than all before and after.
var sets = []string{"members", "devices", "includes", "tags", "rights", "implies", "closed", "sites", "groups"}

func fieldChanges(before, after policy.Record) []wire.FieldChange {
	a, b := fields(before), fields(after)
	names := maps.Clone(a)
	maps.Copy(names, b)
	var out []wire.FieldChange
	for _, name := range slices.Sorted(maps.Keys(names)) {
		if string(a[name]) == string(b[name]) {
			continue
		}
		change := wire.FieldChange{Field: name, Before: a[name], After: b[name]}
		if slices.Contains(sets, name) {
			change.Before, change.After = nil, nil
			change.Dropped, change.Added = entries(a[name], b[name]), entries(b[name], a[name])
		}
		out = append(out, change)
	}
	return out
}

// fields takes a record apart; a record always marshals, and its JSON is an object.
func fields(r policy.Record) map[string]json.RawMessage {
	body, err := json.Marshal(r)
	out := map[string]json.RawMessage{}
	if err == nil {
		err = json.Unmarshal(body, &out)
	}
	if err != nil {
		panic(fmt.Sprintf("translate: %s %s does not marshal: %v", r.Type(), r.Key(), err))
	}
	return out
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
