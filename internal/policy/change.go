package policy

import (
	"cmp"
	"encoding/json"
	"reflect"
	"slices"
	"sync"
)

// Op is what a change does.
type Op string

// The operations. Add and Drop change one entry of a list, so that two people
// who add to one group do not overwrite each other.
const (
	Put    Op = "put"
	Remove Op = "remove"
	Add    Op = "add"
	Drop   Op = "drop"
	Patch  Op = "patch"
)

// Change is one step from a policy to the next. It is data: what it does can be written, kept and sent, always in the form that its
// MarshalJSON gives.
type Change struct {
	Op     Op
	Type   Type
	ID     string
	Record Record          // Put: the whole record
	Patch  json.RawMessage // Patch: a JSON Merge Patch, RFC 7396
	List   string          // Add, Drop: one of the type's [Descriptor] Lists
	Entry  Entry           // Add, Drop; a Drop looks at the value alone, but for Beside
	Beside bool            // Add to members: among the user's other memberships, not in their place; Drop: that very one
	Place  int             // 1 + the record's index in the list that it came from; 0: it came by itself
}

// RecordChange is what a change did to one record: Before is nil where it was
// made, After where it was removed.
type RecordChange struct {
	Before, After Record

	entries *entryChanges // nil: not compared yet
	written *written      // nil: not kept
}

// Record is the record after the change, or before it where it was removed.
func (c RecordChange) Record() Record {
	if c.After != nil {
		return c.After
	}
	return c.Before
}

// draft is a policy that is being changed.
type draft struct {
	base    *Policy
	pending [typeCount]map[string]*pending
	order   [typeCount][]string // keys of pending, sorted once all steps are made
	room    []pending           // for what a step makes
	faults  Faults

	kept    bool       // it is of records as they were kept: what is bounded more closely since does not fault them
	entries []entryRef // of lists to which entries are added one by one
	removes bool
}

// pending is what a draft makes of a record.
type pending struct {
	record Record // nil: removed
	place  int    // 1 + its index, where it came from a list
	whole  bool   // more may have changed than entries of its long list
	edits  *edits // of its long list, that are not made yet
}

// entryRef is a mention that an added entry makes.
type entryRef struct {
	by  target
	ref Reference
}

func (d *draft) get(t Type, id string) (Record, bool) {
	if p, ok := d.pending[t][id]; ok {
		p.settle()
		return p.record, p.record != nil
	}
	return d.base.Get(t, id)
}

func (d *draft) set(c *Change, r Record) {
	whole := c.Op != Add && c.Op != Drop
	if p, ok := d.pending[c.Type][c.ID]; ok {
		p.record, p.whole, p.edits = r, p.whole || whole, nil
		return
	}
	if len(d.room) == cap(d.room) { // what is pointed to stays where it is
		d.room = make([]pending, 0, roomStep)
	}
	d.room = append(d.room, pending{record: r, place: c.Place, whole: whole})
	if d.pending[c.Type] == nil {
		d.pending[c.Type] = map[string]*pending{}
	}
	d.pending[c.Type][c.ID] = &d.room[len(d.room)-1]
	d.order[c.Type] = append(d.order[c.Type], c.ID)
}

// roomStep is for how many more records room is made at once.
const roomStep = 1024

// newDraft begins a draft with room for what changes make, at most one record each.
func newDraft(p *Policy, changes []Change) *draft {
	d := &draft{base: p, room: make([]pending, 0, len(changes))}
	var counts [typeCount]int
	for i := range changes {
		counts[changes[i].Type]++
	}
	for t, n := range counts {
		if n > 0 {
			d.pending[t], d.order[t] = make(map[string]*pending, n), make([]string, 0, n)
		}
	}
	return d
}

// whole tells whether more of a record may have changed than entries of its long list.
func (d *draft) whole(t Type, id string) bool {
	p, ok := d.pending[t][id]
	return ok && p.whole
}

func (d *draft) checker(t Type, id string) *checker {
	place := 0
	if p, ok := d.pending[t][id]; ok {
		place = p.place
	}
	return &checker{&d.faults, t, id, place - 1}
}

// changed tells whether the draft puts or removes a record.
func (d *draft) changed(t Type, id string) bool {
	_, ok := d.pending[t][id]
	return ok
}

// Apply gives the policy that the changes, one after the other, lead to, and what they did to
// each record (records that stay as they were are left out). The error is of type [Faults] and
// holds every fault at once; p itself never changes.
func (p *Policy) Apply(changes []Change) (*Policy, []RecordChange, error) {
	d := newDraft(p, changes)
	for i := range changes {
		d.step(&changes[i])
	}
	if err := d.sound(); err != nil {
		return nil, nil, err
	}
	return d.finish()
}

// manyChanges is how many changes are worth checking on several processors.
const manyChanges = 10_000

// checkAll makes the checks between records. Each only reads the draft, so that those of many changes go side by side.
func (d *draft) checkAll() {
	checks := []func(*draft){
		(*draft).checkReferences, (*draft).checkEntries, (*draft).checkRemovals, (*draft).checkCircles, (*draft).checkNames, (*draft).checkLimits,
	}
	size := 0
	for _, p := range d.pending {
		size += len(p)
	}
	if size < manyChanges {
		for _, check := range checks {
			check(d)
		}
		return
	}
	parts := make([]draft, len(checks))
	var all sync.WaitGroup
	for i, check := range checks {
		parts[i] = *d
		parts[i].faults = nil
		all.Go(func() { check(&parts[i]) })
	}
	all.Wait()
	for _, part := range parts {
		d.faults = append(d.faults, part.faults...)
	}
}

func (d *draft) finish() (*Policy, []RecordChange, error) {
	next := &Policy{tables: d.base.tables}
	var done []RecordChange
	for t := SettingsType; t < typeCount; t++ {
		var edits []edit
		first := len(done)
		for _, id := range d.order[t] {
			before, _ := d.base.Get(t, id)
			after := d.pending[t][id].record
			change := RecordChange{Before: before, After: after, written: &written{}}
			if before == nil && after == nil || before != nil && after != nil && change.none() {
				continue
			}
			edits = append(edits, edit{id, after})
			done = append(done, change)
		}
		next.tables[t] = next.tables[t].merge(edits)
		next.names[t].follow(&d.base.names[t], done[first:])
	}
	return next, done, nil
}

// none compares the two versions of a record; long lists first, as comparing them by reflection would be what a change costs.
func (c *RecordChange) none() bool {
	added, dropped := c.Entries()
	c.entries = &entryChanges{added, dropped}
	return len(added)+len(dropped) == 0 && reflect.DeepEqual(Short(c.Before), Short(c.After))
}

// step carries out one change on the draft, with the faults that the record has by itself.
func (d *draft) step(c *Change) {
	check := &checker{&d.faults, c.Type, c.ID, c.Place - 1}
	d.removes = d.removes || c.Op == Remove
	switch c.Op {
	case Put:
		if !d.kept {
			c.Record.common().check(check)
		}
		c.Record.check(check)
		d.set(c, c.Record.normalize())
	case Remove:
		if _, ok := d.get(c.Type, c.ID); !ok {
			check.fault("", "%s", d.unknown(c.Type, c.ID))
			return
		}
		if c.Type == Rights && (c.ID == string(View) || c.ID == string(Control)) || c.Type == SettingsType {
			check.fault("", "%s is built in and cannot be removed", c.ID)
			return
		}
		d.set(c, nil)
	case Add, Drop, Patch:
		if c.Op != Patch && descriptors[c.Type].LongList == c.List && c.List != "" {
			d.entry(c, check)
			return
		}
		old, ok := d.get(c.Type, c.ID)
		if !ok {
			check.fault("", "%s", d.unknown(c.Type, c.ID))
			return
		}
		if c.Op == Patch {
			next := patched(old, c.Patch, check)
			if next == nil {
				return
			}
			if !d.kept {
				next.common().check(check)
			}
			next.check(check)
			d.set(c, next.normalize())
			return
		}
		if r := changeList(old, *c, check); r != nil {
			d.set(c, r)
		}
	default:
		check.fault("", "%q is no operation: use put, patch, remove, add or drop", c.Op)
	}
}

// mention notes what an added entry refers to.
func (d *draft) mention(c Change) {
	ref := Reference{at: place{}.within(c.List), Type: Users, ID: c.Entry.Value}
	if c.Type == DeviceGroups {
		ref.Type = Devices
	}
	if c.Op == Add {
		d.entries = append(d.entries, entryRef{target{Type: c.Type, ID: c.ID}, ref})
	}
}

// changeList gives a copy of r with one entry added to or dropped from a short list. Adding what is there and
// dropping what is not changes nothing: both leave what was asked for.
func changeList(r Record, c Change, check *checker) Record {
	switch r := r.(type) {
	case *Device:
		n := *r
		switch c.List {
		case "tags":
			if c.Op == Add {
				check.tags("tags", []string{c.Entry.Value})
			}
			n.Tags = changeSet(r.Tags, c.Entry.Value, c.Op)
			return &n
		case "points":
			id := PointID(c.Entry.Value)
			n.Points = slices.DeleteFunc(slices.Clone(r.Points), func(p Point) bool { return p.ID == id })
			if c.Op == Add {
				n.Points = append(n.Points, Point{id, c.Entry.Name})
			}
			n.check(check)
			return n.normalize()
		}
	}
	check.fault(c.List, "a %s has no list %q that can be changed entry by entry", Say(c.Type.Noun()), c.List)
	return nil
}

func changeSet[T cmp.Ordered](list []T, value T, op Op) []T {
	at, found := slices.BinarySearch(list, value)
	switch {
	case op == Add && !found:
		return spliced(list, at, at, value)
	case op == Drop && found:
		return spliced(list, at, at+1)
	}
	return list
}

// spliced is a list with other entries in place of those from from to to: one copy of it, as most are long. An empty one is nil.
func spliced[T any](list []T, from, to int, entries ...T) []T {
	return slices.Concat(list[:from], entries, list[to:])
}

// Compare gives what leads from p to q, in document order. Applying it to p gives q. What both share is not looked at.
func (p *Policy) Compare(q *Policy) []RecordChange {
	var out []RecordChange
	for t := SettingsType; t < typeCount; t++ {
		a, b := cursor{chunks: p.tables[t].chunks}, cursor{chunks: q.tables[t].chunks}
		for {
			skipShared(&a, &b)
			x, y := a.record(), b.record()
			if x == nil && y == nil {
				break
			}
			if y == nil || x != nil && x.Key() < y.Key() {
				out = append(out, RecordChange{Before: x})
				a.next()
				continue
			}
			b.next()
			if x == nil || y.Key() < x.Key() {
				out = append(out, RecordChange{After: y})
				continue
			}
			a.next()
			if x != y && !reflect.DeepEqual(x, y) {
				out = append(out, RecordChange{Before: x, After: y})
			}
		}
	}
	return out
}

func (d *draft) unknown(t Type, id string) Said {
	near := nearest(id, func(yield func(string) bool) {
		for r, p := range d.pending[t] {
			if p.record != nil && !yield(r) {
				return
			}
		}
		for r := range d.base.tables[t].All() {
			if !yield(r.Key()) {
				return
			}
		}
	})
	if near != "" {
		return Say("there is no %s %q: did you mean %q?", Say(t.Noun()), id, near)
	}
	return Say("there is no %s %q: add it, or name one that is there", Say(t.Noun()), id)
}
