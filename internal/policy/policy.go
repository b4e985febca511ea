package policy

import (
	"iter"
	"reflect"
	"slices"
)

// Policy is all records together: one immutable value. The zero Policy is not
// valid; begin with [Empty] or [FromRecords].
type Policy struct {
	tables [typeCount]Table
	names  [typeCount]nameIndex
}

// Empty is the policy without records but the settings and the two built-in rights.
func Empty() *Policy {
	p := &Policy{}
	for _, r := range []Record{&Settings{}, &Right{ID: View}, &Right{ID: Control}} {
		p.tables[r.Type()] = p.tables[r.Type()].merge([]edit{{r.Key(), r.normalize()}})
	}
	return p
}

// FromRecords makes a policy of the lists of a document. The error is of type [Faults]: every
// fault at once, each with the index of its record.
func FromRecords(records *Records) (*Policy, error) {
	b := NewBuilder(nil)
	for _, r := range records.All() {
		b.Add(r)
	}
	return b.Policy()
}

// Table is the table of all records of a type.
func (p *Policy) Table(t Type) Table { return p.tables[t] }

// Len counts the records.
func (p *Policy) Len() int {
	n := 0
	for t := range p.tables {
		n += p.tables[t].Len()
	}
	return n
}

// Get finds a record by its type and id.
func (p *Policy) Get(t Type, id string) (Record, bool) { return p.tables[t].Get(id) }

// Settings are the policy's settings.
func (p *Policy) Settings() *Settings {
	r, _ := p.tables[SettingsType].Get("settings")
	return r.(*Settings)
}

// Title is a record's name, or its id where it has none or is not there.
func (p *Policy) Title(t Type, id string) string {
	if r, ok := p.Get(t, id); ok {
		return r.Title()
	}
	return id
}

// Find finds a record by its id, by the type of the result: Find[*User](p, "ines").
func Find[R Record](p *Policy, id string) (R, bool) {
	var none R
	r, ok := p.tables[none.Type()].Get(id)
	if !ok {
		return none, false
	}
	return r.(R), true
}

// Each yields all records of a type in the order of their ids: Each[*User](p).
func Each[R Record](p *Policy) iter.Seq[R] {
	var none R
	return func(yield func(R) bool) {
		for r := range p.tables[none.Type()].All() {
			if !yield(r.(R)) {
				return
			}
		}
	}
}

// Written yields the records of a type that a document holds: all, but for built-in rights that are as they come.
func (p *Policy) Written(t Type) iter.Seq[Record] {
	return func(yield func(Record) bool) {
		for r := range p.tables[t].All() {
			if right, ok := r.(*Right); ok && (right.ID == View || right.ID == Control) && reflect.DeepEqual(right, (&Right{ID: right.ID}).normalize()) {
				continue
			}
			if !yield(r) {
				return
			}
		}
	}
}

// Records are copies of all records, in the order of a document and of their ids. Built-in
// rights are left out where they are as they come.
func (p *Policy) Records() *Records {
	out := &Records{Settings: *p.Settings()}
	for _, t := range Types() {
		list := out.list(t)
		for r := range p.Written(t) {
			list.Set(reflect.Append(list, reflect.ValueOf(r).Elem()))
		}
	}
	return out
}

// Near lists up to three ids of a type that are near to one that is not there.
func (p *Policy) Near(t Type, id string) []string {
	var out []string
	for len(out) < 3 {
		best := nearest(id, func(yield func(string) bool) {
			for r := range p.tables[t].All() {
				if !slices.Contains(out, r.Key()) && !yield(r.Key()) {
					return
				}
			}
		})
		if best == "" {
			break
		}
		out = append(out, best)
	}
	return out
}

// Around lists a site and those around it, from the inside out.
func (p *Policy) Around(id SiteID) iter.Seq[SiteID] {
	return func(yield func(SiteID) bool) {
		for id != "" && yield(id) {
			s, ok := Find[*Site](p, string(id))
			if !ok {
				return
			}
			id = s.Parent
		}
	}
}
