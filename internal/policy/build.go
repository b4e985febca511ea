package policy

import (
	"reflect"
	"slices"
)

// Builder makes a policy of records that come one after the other, in the order of a document. Of what comes it keeps no more than the
// policy will, so that one of millions of records needs little room beside itself.
type Builder struct {
	draft *draft
	like  *Policy
	count [typeCount]int
}

// NewBuilder begins a policy of nothing but what [Empty] holds. Records that like (nil: nothing) has as well are taken from there, so that
// both share them.
func NewBuilder(like *Policy) *Builder { return &Builder{draft: newDraft(Empty(), nil), like: like} }

// Kept says that the records are as they were kept: bounds that are closer since then do not fault them.
func (b *Builder) Kept() *Builder {
	b.draft.kept = true
	return b
}

// Add takes the next record. What is wrong with it is told by [Builder.Policy].
func (b *Builder) Add(r Record) {
	d, t, id := b.draft, r.Type(), r.Key()
	b.count[t]++
	c := Change{Op: Put, Type: t, ID: id, Record: r, Place: b.count[t]}
	if _, twice := d.pending[t][id]; twice && id != "" {
		check := &checker{&d.faults, t, id, c.Place - 1}
		check.fault("id", "the id %s is there twice: give each %s an id of its own", id, Say(t.Noun()))
		return
	}
	d.step(&c)
	if b.like == nil {
		return
	}
	if made := d.pending[t][id]; made != nil {
		if there, ok := b.like.Get(t, id); ok && reflect.DeepEqual(there, made.record) {
			made.record = there
		}
	}
}

// Policy is what was added. The error is of type [Faults]: every fault at once, each with the index of its record among those of its type.
func (b *Builder) Policy() (*Policy, error) {
	d := b.draft
	if err := d.sound(); err != nil {
		return nil, err
	}
	out := &Policy{tables: d.base.tables}
	for t := range d.order {
		edits := make([]edit, 0, len(d.order[t]))
		for _, id := range d.order[t] {
			edits = append(edits, edit{id, d.pending[t][id].record})
		}
		d.order[t], d.pending[t] = nil, nil
		out.tables[t] = out.tables[t].merge(edits)
	}
	return out, nil
}

// sound makes the checks between records, once all steps are made. The error is of type [Faults].
func (d *draft) sound() error {
	for _, list := range d.pending {
		for _, p := range list {
			p.settle()
		}
	}
	for _, ids := range d.order {
		if !slices.IsSorted(ids) {
			slices.Sort(ids)
		}
	}
	d.checkAll()
	if len(d.faults) > 0 {
		slices.SortStableFunc(d.faults, compareFaults)
		return d.faults
	}
	return nil
}
