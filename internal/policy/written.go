package policy

import (
	"bytes"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"
)

// change is the written form of a [Change].
type change struct {
	Op     Op              `json:"op"`
	Type   string          `json:"type"`
	ID     string          `json:"id"`
	Record json.RawMessage `json:"record,omitempty"` // of a put the record, of a patch the merge patch
	List   string          `json:"list,omitempty"`
	Value  string          `json:"value,omitempty"`
	From   time.Time       `json:"from,omitzero"`
	Until  time.Time       `json:"until,omitzero"`
	Name   string          `json:"name,omitempty"`
	Beside bool            `json:"beside,omitempty"`
}

// MarshalJSON writes the form in which changes are sent and kept.
func (c Change) MarshalJSON() ([]byte, error) {
	out := change{c.Op, c.Type.String(), c.ID, c.Patch, c.List, c.Entry.Value, c.Entry.From, c.Entry.Until, c.Entry.Name, c.Beside}
	if c.Op == Put {
		body, err := json.Marshal(c.Record)
		if err != nil {
			return nil, err
		}
		out.Record = body
	}
	return json.Marshal(out)
}

// UnmarshalJSON reads what MarshalJSON writes. It is for what the program has written itself: what people and other programs send is
// read strictly, by the package document.
func (c *Change) UnmarshalJSON(b []byte) error {
	var in change
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	t, ok := TypeNamed(in.Type)
	if !ok {
		return fmt.Errorf("%q is no type of record", in.Type)
	}
	*c = Change{Op: in.Op, Type: t, ID: in.ID, List: in.List, Entry: Entry{in.Value, in.From, in.Until, in.Name}, Beside: in.Beside}
	switch in.Op {
	case Put:
		c.Record = New(t)
		return json.Unmarshal(in.Record, c.Record)
	case Patch:
		c.Patch = in.Record
	}
	return nil
}

// written is how the versions of a record are written, each once, as it is needed in several places.
type written struct {
	once          sync.Once
	before, after json.RawMessage
}

// Written gives the two versions of the record as JSON, without their long lists; nil where it was not there. Neither is to be changed.
func (c RecordChange) Written() (before, after json.RawMessage) {
	w := c.written
	if w == nil {
		w = &written{}
	}
	w.once.Do(func() { w.before, w.after = Write(c.Before), Write(c.After) })
	return w.before, w.after
}

// Write writes a record as JSON, without its long list; nil for none.
func Write(r Record) json.RawMessage {
	if r == nil {
		return nil
	}
	body, err := json.Marshal(Short(r))
	if err != nil {
		panic(fmt.Sprintf("policy: %s %s cannot be written: %v", r.Type().Noun(), r.Key(), err))
	}
	return body
}

// Changes turns what was done to records into the changes that do it: as little of each record as changed.
func Changes(done []RecordChange) []Change {
	var out []Change
	for _, c := range done {
		out = append(out, c.Changes()...)
	}
	return out
}

// Reverse is what takes a change back.
func Reverse(done []RecordChange) []RecordChange {
	out := make([]RecordChange, len(done))
	for i, c := range done {
		out[i] = c.Reverse()
	}
	return out
}

// Changes are the changes that do what was done to the record.
func (c RecordChange) Changes() []Change {
	r := c.Record()
	t, id := r.Type(), r.Key()
	switch {
	case c.After == nil:
		return []Change{{Op: Remove, Type: t, ID: id}}
	case c.Before == nil:
		return []Change{{Op: Put, Type: t, ID: id, Record: c.After}}
	}
	var out []Change
	before, after := c.Written()
	if patch := difference(before, after); patch != nil {
		out = append(out, Change{Op: Patch, Type: t, ID: id, Patch: patch})
	}
	list := descriptors[t].LongList
	added, dropped := c.Entries()
	for _, e := range dropped { // each of a person's memberships by itself: those of other times stay
		out = append(out, Change{Op: Drop, Type: t, ID: id, List: list, Entry: e, Beside: true})
	}
	for _, e := range added {
		out = append(out, Change{Op: Add, Type: t, ID: id, List: list, Entry: e, Beside: true})
	}
	return out
}

// members takes a JSON object apart; ok is false for what is none.
func members(v json.RawMessage) (out map[string]json.RawMessage, ok bool) {
	if b := bytes.TrimLeft(v, " \t\r\n"); len(b) == 0 || b[0] != '{' {
		return nil, false
	}
	return out, json.Unmarshal(v, &out) == nil
}

// difference is the merge patch that leads from one object to another; nil where they are the same.
func difference(before, after json.RawMessage) json.RawMessage {
	if bytes.Equal(before, after) {
		return nil
	}
	a, isA := members(before)
	b, isB := members(after)
	if !isA || !isB {
		return after
	}
	out := map[string]json.RawMessage{}
	for name, was := range a {
		if is, there := b[name]; !there {
			out[name] = json.RawMessage("null")
		} else if d := difference(was, is); d != nil {
			out[name] = d
		}
	}
	for name, is := range b {
		if _, there := a[name]; !there {
			out[name] = is
		}
	}
	return object(out)
}

// object writes an object with its members in order.
func object(of map[string]json.RawMessage) json.RawMessage {
	out := []byte{'{'}
	for i, name := range slices.Sorted(maps.Keys(of)) {
		if i > 0 {
			out = append(out, ',')
		}
		key, _ := json.Marshal(name) // a text always can be
		out = append(append(append(out, key...), ':'), of[name]...)
	}
	return append(out, '}')
}

// merged is the algorithm of RFC 7396, section 2.
func merged(target, patch json.RawMessage) json.RawMessage {
	changes, ok := members(patch)
	if !ok {
		return patch
	}
	out, ok := members(target)
	if !ok {
		out = map[string]json.RawMessage{}
	}
	for name, value := range changes {
		if string(bytes.TrimSpace(value)) == "null" {
			delete(out, name)
			continue
		}
		out[name] = merged(out[name], value)
	}
	return object(out)
}

// patched is a copy of a record changed by a merge patch, nil with a fault where that is no record. Its long list stays where the patch
// does not name it.
func patched(r Record, patch json.RawMessage, check *checker) Record {
	changes, ok := members(patch)
	if !ok {
		check.fault("", "is no object: a merge patch names the fields that change")
		return nil
	}
	body := merged(Write(r), patch)
	next := New(r.Type())
	in := json.NewDecoder(bytes.NewReader(body))
	in.DisallowUnknownFields()
	if err := in.Decode(next); err != nil {
		check.fault("", "cannot be read: %v", err)
		return nil
	}
	d := &descriptors[r.Type()]
	if _, whole := changes[d.LongList]; d.LongList != "" && !whole {
		next = withLong(next, r)
	}
	faults := len(*check.faults)
	missing(body, d.Fields, check)
	if r.Type() != SettingsType && next.Key() != r.Key() {
		check.fault("id", "%q cannot become %q: an id never changes; copy the record, or rename it", r.Key(), next.Key())
	}
	if len(*check.faults) > faults {
		return nil
	}
	return next
}

// missing faults the fields that an object must have and has not, and those of the objects in it.
func missing(body json.RawMessage, fields []Field, check *checker) {
	have, _ := members(body)
	for _, f := range fields {
		value, there := have[f.Name]
		switch {
		case f.Required && !there:
			check.fault(f.Path, "is missing")
		case there && f.Kind == ObjectField && !f.Many:
			missing(value, f.Fields, check)
		}
	}
}

// Like is a record like another, of another id and name, without what is that one's own.
func Like(r Record, id, name string) Record {
	fields, _ := members(Write(r))
	for _, f := range descriptors[r.Type()].Fields {
		if f.Own {
			delete(fields, f.Name)
		}
	}
	for field, text := range map[string]string{"id": id, "name": name} {
		fields[field], _ = json.Marshal(text) // a text always can be
	}
	out := New(r.Type())
	if err := json.Unmarshal(object(fields), out); err != nil {
		panic(fmt.Sprintf("policy: a copy of %s %s cannot be read: %v", r.Type().Noun(), r.Key(), err))
	}
	return withLong(out, r)
}
