package policy

import (
	"bytes"
	"encoding/json"
	"reflect"
	"slices"
	"time"
)

// ForATime gives the changes that make of p what after is until an instant, by “For a time” of the semantics: the memberships, grants, lines, mandates and users
// that are added carry the instant as their own end, and what is added to a standing grant or mandate becomes one of its own. All else is as it is in after, and
// is put back at the instant; see [Policy.PutBack]. Done once more with what it gave, it gives the same.
func (p *Policy) ForATime(after *Policy, until time.Time) []Change {
	t := &timed{until: until, after: after, made: map[string]bool{}}
	var out []Change
	for _, c := range p.Compare(after) {
		out = append(out, t.change(c)...)
	}
	return out
}

// timed is a change that is being made one for a time.
type timed struct {
	until time.Time
	after *Policy
	made  map[string]bool // names and ids of what is made beside
}

func (t *timed) change(c RecordChange) []Change {
	switch is := c.After.(type) {
	case *UserGroup:
		was, _ := c.Before.(*UserGroup)
		return t.group(c, was, is)
	case *User:
		n := *is
		was, ok := c.Before.(*User)
		begins := true
		if !ok || was.Status != is.Status && is.Status != Suspended {
			n.Valid, begins = t.within(is.Valid)
		} else {
			n.Valid, begins = t.span(was.Valid, is.Valid)
		}
		if !begins {
			n.Status = Suspended
		}
		return becomes(c.Before, &n)
	case *Grant:
		was, _ := c.Before.(*Grant)
		return t.grant(was, is)
	case *Mandate:
		was, _ := c.Before.(*Mandate)
		return t.mandate(was, is)
	}
	return c.Changes()
}

// becomes are the changes that make a record of another, nil where it was not there.
func becomes(before, after Record) []Change {
	if before == nil {
		return []Change{{Op: Put, Type: after.Type(), ID: after.Key(), Record: after}}
	}
	return RecordChange{Before: before, After: after}.Changes()
}

// earlier is the earlier of two ends; the zero time is none.
func earlier(a, b time.Time) time.Time {
	if a.IsZero() || !b.IsZero() && b.Before(a) {
		return b
	}
	return a
}

// within is the part of a span before the instant; false: there is none, and the whole span is given.
func (t *timed) within(s Span) (Span, bool) {
	if !s.From.Before(t.until) {
		return s, false
	}
	return Span{s.From, earlier(s.Until, t.until)}, true
}

// span is that of what stands, given what it was and is to be: what it is longer ends at the instant. It is false where it does not begin before that.
func (t *timed) span(was, is Span) (Span, bool) {
	if was.Same(is) {
		return is, true
	}
	out, begins := t.within(is)
	if begins && was.From.Before(t.until) && (was.Until.IsZero() || was.Until.After(t.until)) { // the instant is in both
		if out.Until = is.Until; !was.Until.IsZero() {
			out.Until = earlier(is.Until, was.Until)
		}
	}
	return out, begins
}

// Same tells whether two spans have the same ends.
func (s Span) Same(o Span) bool { return s.From.Equal(o.From) && s.Until.Equal(o.Until) }

// group ends the memberships that are added. One that is made longer stays beside the one that is added.
func (t *timed) group(c RecordChange, was, is *UserGroup) []Change {
	ended := func(m Member) Member { m.Until = earlier(m.Until, t.until); return m }
	if was == nil {
		n := *is
		n.Members = nil
		for _, m := range is.Members {
			if m.From.Before(t.until) {
				n.Members = append(n.Members, ended(m))
			}
		}
		return becomes(nil, &n)
	}
	var out []Change
	for _, x := range c.Changes() {
		if x.List == "members" {
			m := x.Entry.Member()
			switch {
			case x.Op == Add && !m.From.Before(t.until):
				continue
			case x.Op == Add:
				x.Entry = EntryOf(ended(m))
			case slices.ContainsFunc(is.Memberships(m.User), func(o Member) bool { return o.Span().covers(m.Span()) }):
				continue
			}
		}
		out = append(out, x)
	}
	return out
}

// covers tells whether a span holds all of another.
func (s Span) covers(o Span) bool {
	return !s.From.After(o.From) && (s.Until.IsZero() || !o.Until.IsZero() && !s.Until.Before(o.Until))
}

func (t *timed) grant(was, is *Grant) []Change {
	n := *is
	switch {
	case was == nil:
		n.Valid, n.Enabled = t.begins(is.Enabled, nil, is.Valid)
		return becomes(nil, &n)
	case is.Effect == Deny: // it takes
		return becomes(was, is)
	case was.Effect == Deny || was.Enabled == Off && is.Enabled != Off:
		n.Valid, n.Enabled = t.begins(is.Enabled, nil, is.Valid)
		return becomes(was, &n)
	}
	if n.Valid, n.Enabled = t.begins(is.Enabled, &was.Valid, is.Valid); n.Enabled == Off {
		return becomes(was, &n)
	}
	var added []Line
	n.Lines = nil
	for _, l := range is.Lines {
		if slices.ContainsFunc(was.Lines, func(o Line) bool { return reflect.DeepEqual(l, o) }) {
			n.Lines = append(n.Lines, l)
		} else {
			added = append(added, l)
		}
	}
	more := To{Groups: except(is.To.Groups, was.To.Groups), Users: except(is.To.Users, was.To.Users), Everyone: is.To.Everyone && !was.To.Everyone}
	n.To = To{Groups: except(is.To.Groups, more.Groups), Users: except(is.To.Users, more.Users), Everyone: is.To.Everyone && was.To.Everyone}
	out := becomes(was, &n)
	if len(added) > 0 {
		out = append(out, t.beside(is, is.To, added)...)
	}
	if len(more.Groups)+len(more.Users) > 0 || more.Everyone {
		out = append(out, t.beside(is, more, n.Lines)...)
	}
	return out
}

// begins is the span of a grant or a mandate, given what it was (nil: nothing counts that it was), and whether it is enabled, which it is not where it does not
// begin before the instant.
func (t *timed) begins(enabled Switch, was *Span, is Span) (Span, Switch) {
	out, begins := t.within(is)
	if was != nil {
		out, begins = t.span(*was, is)
	}
	if !begins {
		enabled = Off
	}
	return out, enabled
}

// beside makes a grant of its own of what is added to one that stands.
func (t *timed) beside(of *Grant, to To, lines []Line) []Change {
	valid, begins := t.within(of.Valid)
	if len(lines) == 0 || !begins {
		return nil
	}
	n := *of
	n.To, n.Lines, n.Valid = to, lines, valid
	n.Name, n.ID = t.named(Grants, of.Title())
	return becomes(nil, n.normalize())
}

// named is a free name, and an id, for what is made beside.
func (t *timed) named(in Type, of string) (string, GrantID) {
	name := t.after.FreeName(in, of+untilDay(t.until))
	for t.made[name] {
		name = t.after.FreeName(in, name+"+")
	}
	id := MakeID(name, func(id string) bool {
		_, taken := t.after.Get(in, id)
		return taken || t.made[id]
	})
	t.made[name], t.made[id] = true, true
	return name, GrantID(id)
}

func (t *timed) mandate(was, is *Mandate) []Change {
	n := *is
	switch {
	case was == nil:
		n.Valid, n.Enabled = t.begins(is.Enabled, nil, is.Valid)
		return becomes(nil, &n)
	case is.Enabled == Off:
		return becomes(was, &n)
	}
	same := was.Role == is.Role && reflect.DeepEqual([]any{was.Sites, was.Groups, was.Rights}, []any{is.Sites, is.Groups, is.Rights})
	if was.Enabled == Off || !same {
		n.Valid, n.Enabled = t.begins(is.Enabled, nil, is.Valid)
		return becomes(was, &n)
	}
	if n.Valid, n.Enabled = t.begins(is.Enabled, &was.Valid, is.Valid); n.Enabled == Off {
		return becomes(was, &n)
	}
	more := Holders{Groups: except(is.To.Groups, was.To.Groups), Users: except(is.To.Users, was.To.Users)}
	if len(more.Groups)+len(more.Users) == 0 {
		return becomes(was, &n)
	}
	n.To = Holders{Groups: except(is.To.Groups, more.Groups), Users: except(is.To.Users, more.Users)}
	valid, begins := t.within(is.Valid)
	if !begins {
		return becomes(was, &n)
	}
	beside := *is
	beside.To, beside.Valid = more, valid
	name, id := t.named(Mandates, is.Title())
	beside.Name, beside.ID = name, MandateID(id)
	return append(becomes(was, &n), becomes(nil, &beside)...)
}

// PutBack gives the changes that take back what was done to a policy, in p as it is now: each field, and each entry of a long list, that is still as the change
// left it. What somebody has changed since stays as they left it; those objects are told in left. Where not all can be taken back together, as others mention
// what would go, as much is as can be.
func (p *Policy) PutBack(done []RecordChange) (back []Change, left []RecordChange) {
	type part struct {
		of      RecordChange
		changes []Change
	}
	var all []part
	for _, c := range done {
		r := c.Record()
		now, _ := p.Get(r.Type(), r.Key())
		changes, whole := c.back(now)
		if !whole {
			left = append(left, c)
		}
		if len(changes) > 0 {
			all = append(all, part{c, changes})
			back = append(back, changes...)
		}
	}
	if _, _, err := p.Apply(back); err == nil {
		return back, left
	}
	back = nil
	for more := true; more; { // what goes may be mentioned by what goes after it
		more = false
		all = slices.DeleteFunc(all, func(x part) bool {
			next, _, err := p.Apply(x.changes)
			if err == nil {
				p, back, more = next, append(back, x.changes...), true
			}
			return err == nil
		})
	}
	for _, x := range all {
		if !slices.ContainsFunc(left, func(c RecordChange) bool { return c.Record() == x.of.Record() }) {
			left = append(left, x.of)
		}
	}
	return back, left
}

// back are the changes that take a change back from a record as it is now, nil where it is not there; whole tells whether that is all of it.
func (c RecordChange) back(now Record) (changes []Change, whole bool) {
	switch {
	case c.Before == nil && now == nil, c.After == nil && now != nil && reflect.DeepEqual(now, c.Before):
		return nil, true
	case c.Before == nil:
		if whole = c.Stands(now); whole {
			changes = c.Reverse().Changes()
		}
		return changes, whole
	case c.After == nil:
		if whole = now == nil; whole {
			changes = c.Reverse().Changes()
		}
		return changes, whole
	case now == nil:
		return nil, false
	}
	before, after := c.Written()
	was, _ := members(before)
	is, _ := members(after)
	have, _ := members(Write(now))
	patch := map[string]json.RawMessage{}
	whole = true
	for name := range merge(was, is) {
		switch {
		case bytes.Equal(was[name], is[name]), bytes.Equal(have[name], was[name]):
		case !bytes.Equal(have[name], is[name]):
			whole = false
		case was[name] == nil:
			patch[name] = json.RawMessage("null")
		default:
			patch[name] = difference(is[name], was[name])
		}
	}
	t, id := now.Type(), now.Key()
	if len(patch) > 0 {
		changes = append(changes, Change{Op: Patch, Type: t, ID: id, Patch: object(patch)})
	}
	list := LongEntries(now)
	added, dropped := c.Entries()
	for _, e := range added {
		if hasEntry(list, e) {
			changes = append(changes, Change{Op: Drop, Type: t, ID: id, List: descriptors[t].LongList, Entry: e, Beside: true})
		}
	}
	for _, e := range dropped {
		if !hasEntry(list, e) {
			changes = append(changes, Change{Op: Add, Type: t, ID: id, List: descriptors[t].LongList, Entry: e, Beside: true})
		}
	}
	return changes, whole
}
