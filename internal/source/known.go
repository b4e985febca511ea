package source

import (
	"cmp"
	"encoding/json"
	"maps"
	"reflect"
	"slices"
	"strings"

	"sentier/internal/container"
	"sentier/internal/policy"
)

// Known is what is known of what sources have brought. It never changes, but for a fork that nobody else has.
type Known struct {
	byRecord container.Map[record, Origin]
	byThing  container.Map[thing, string]             // the record's id
	byPlace  container.Map[thing, string]             // likewise, by where a thing stands, without regard to capitals
	members  container.Map[string, map[string]string] // by user and group: the source that brought the membership
	counts   map[string]Counts                        // by source
	sources  map[string]Of                            // by id
	fed      map[string][]string                      // by group: the sources that feed it
}

type (
	record struct {
		t  policy.Type
		id string
	}
	thing struct {
		source  string
		t       policy.Type
		outside string
	}
	// Counts are how many of each a source has brought that are still there, and how many devices and sites are there no more.
	Counts struct{ Users, Groups, Members, Devices, Sites, Calendars, Vanished int }
)

// Origin is from where a record comes.
type Origin struct {
	Source  string
	Type    policy.Type
	Outside string // the id there
	Record  string
	Place   string // where it stands there
	Gone    bool   // it is there no more

	Suspended bool   // the record was, for that
	Made      bool   // the source has made it, and keeps its name
	Told      string // what else the source says of it
}

// Keeps are the fields of the record that its source keeps: of a device or a site, those of which it says something.
func (o *Origin) Keeps() (fields []string) {
	if o.Type != policy.Devices && o.Type != policy.Sites {
		return kept[o.Type]
	}
	if err := json.Unmarshal([]byte(o.Told), &fields); err != nil {
		return nil // it says nothing
	}
	return fields
}

// Member is a membership that a source has brought.
type Member struct{ Source, Group, User string }

// Of is a source as others know it.
type Of struct {
	ID, Name string
	Undo     bool     // a reading can be taken back, until the next
	Groups   []string // ours, that its mappings feed
}

// NewKnown gathers what is known.
func NewKnown(sources []Of, origins []Origin, members []Member) *Known {
	k := (&Known{}).Fork()
	k.set(sources)
	for _, o := range origins {
		k.put(o)
	}
	for _, m := range members {
		k.join(m)
	}
	return k
}

// set makes the sources those that there are now.
func (k *Known) set(sources []Of) {
	k.sources, k.fed = make(map[string]Of, len(sources)), map[string][]string{}
	for _, s := range sources {
		k.sources[s.ID] = s
		for _, g := range s.Groups {
			if !slices.Contains(k.fed[g], s.ID) {
				k.fed[g] = append(k.fed[g], s.ID)
			}
		}
	}
}

// Among is what is known where the sources are these: of one that is there no more, nothing.
func (k *Known) Among(sources []Of) *Known {
	next := k.Fork()
	next.set(sources)
	lost := func(source string) bool { _, there := next.sources[source]; return !there }
	if !slices.ContainsFunc(slices.Collect(maps.Keys(k.counts)), lost) {
		return next
	}
	for _, o := range k.byRecord.All {
		if lost(o.Source) {
			next.drop(o)
		}
	}
	for user, in := range k.members.All {
		for group, source := range in {
			if lost(source) {
				next.leave(Member{source, group, user})
			}
		}
	}
	maps.DeleteFunc(next.counts, func(source string, _ Counts) bool { return lost(source) })
	return next
}

// Counts are how many of each a source has brought that are still there.
func (k *Known) Counts(source string) Counts { return k.counts[source] }

// Origin is from where a record comes, if it does.
func (k *Known) Origin(t policy.Type, id string) (Origin, bool) {
	return k.byRecord.Get(record{t, id})
}

// Stands finds the record that stands for a thing of a source.
func (k *Known) Stands(source string, t policy.Type, outside string) (id string, ok bool) {
	return k.byThing.Get(thing{source, t, outside})
}

// At finds the record of a thing by where it stands, without regard to capitals.
func (k *Known) At(source string, t policy.Type, place string) (id string, ok bool) {
	return k.byPlace.Get(thing{source, t, strings.ToLower(place)})
}

// Name is how people know a source.
func (k *Known) Name(source string) string { return cmp.Or(k.sources[source].Name, source) }

// MayUndo tells whether a reading of a source can be taken back.
func (k *Known) MayUndo(source string) bool { return k.sources[source].Undo }

// Brings is the source that has brought a membership, if one has.
func (k *Known) Brings(group, user string) (source string, ok bool) {
	in, _ := k.members.Get(user)
	source, ok = in[group]
	return source, ok
}

// Brought are, by source, the users whose memberships in a group it has brought.
func (k *Known) Brought(g *policy.UserGroup) map[string][]string {
	out := map[string][]string{}
	for _, m := range g.Members {
		if from, ok := k.Brings(g.Key(), string(m.User)); ok && (m.Span() == policy.Span{}) {
			out[from] = append(out[from], string(m.User))
		}
	}
	return out
}

// Memberships are the groups in which a source has brought somebody, by their ids.
func (k *Known) Memberships(source, user string) (groups []string) {
	in, _ := k.members.Get(user)
	for group, from := range in {
		if from == source {
			groups = append(groups, group)
		}
	}
	slices.Sort(groups)
	return groups
}

// Feeds are the sources whose mappings feed a group.
func (k *Known) Feeds(group string) []string { return k.fed[group] }

// Things are what a source has brought of a type that is there still, by the ids of the records.
func (k *Known) Things(source string, t policy.Type) []Origin {
	out := slices.DeleteFunc(k.things(source, t), func(o Origin) bool { return o.Gone })
	slices.SortFunc(out, func(a, b Origin) int { return strings.Compare(a.Record, b.Record) })
	return out
}

// Vanished is what a source has brought of some types that is there no more, by type and record.
func (k *Known) Vanished(source string, types ...policy.Type) (out []Origin) {
	for _, t := range types {
		out = append(out, slices.DeleteFunc(k.things(source, t), func(o Origin) bool { return !o.Gone })...)
	}
	return out
}

// things are what a source has brought of a type, by their outside ids.
func (k *Known) things(source string, t policy.Type) (out []Origin) {
	for at, o := range k.byRecord.All {
		if at.t == t && o.Source == source {
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b Origin) int { return strings.Compare(a.Outside, b.Outside) })
	return out
}

// Empty tells whether no source has brought anything, and none feeds a group.
func (k *Known) Empty() bool { return k.byRecord.Len()+k.members.Len()+len(k.fed) == 0 }

// Locked tells what of a change a source keeps: the source, the record and what of it, or ok is false.
func (k *Known) Locked(c policy.RecordChange) (source string, what policy.Said, ok bool) {
	if k.Empty() {
		return "", what, false
	}
	r := c.Record()
	t, id := r.Type(), r.Key()
	if o, ok := k.Origin(t, id); ok && c.Before != nil && !o.Gone {
		own := t != policy.UserGroups || o.Made // the source keeps its fields, and not its members alone
		if c.After == nil {
			if !own {
				return o.Source, policy.Say("the members of %s", r.Title()), true
			}
			return o.Source, policy.Say("%s itself", r.Title()), true
		}
		for _, f := range policy.Describe(t).Fields {
			if own && slices.Contains(o.Keeps(), f.Name) && !sameField(&f, c.Before, c.After) {
				return o.Source, keptPart(f.Name, c.Before.Title()), true
			}
		}
	}
	if t != policy.UserGroups || c.Before == nil {
		return "", what, false
	}
	if c.After == nil {
		if feeds := k.fed[id]; len(feeds) > 0 {
			return feeds[0], policy.Say("the members of %s", r.Title()), true
		}
	}
	_, dropped := c.Entries()
	for _, e := range dropped {
		if source, ok := k.Brings(id, e.Value); ok && e.From.IsZero() && e.Until.IsZero() {
			return source, policy.Say("the membership of %s in %s", e.Value, r.Title()), true
		}
	}
	return "", what, false
}

// keptPart is a field that a source keeps of a record with a title, for people.
func keptPart(field, title string) policy.Said {
	switch field {
	case "name":
		return policy.Say("the name of %s", title)
	case "email":
		return policy.Say("the address of %s", title)
	case "site":
		return policy.Say("the site of %s", title)
	case "days":
		return policy.Say("the days of %s", title)
	}
	return policy.Say("what it says of %s", title)
}

// sameField tells whether a field of a record is as it was.
func sameField(f *policy.Field, before, after policy.Record) bool {
	in := func(r policy.Record) any { return f.In(reflect.ValueOf(r).Elem()).Interface() }
	return reflect.DeepEqual(in(before), in(after))
}

func (k *Known) put(o Origin) {
	if was, ok := k.Origin(o.Type, o.Record); ok {
		k.drop(was)
	}
	k.byRecord.Set(record{o.Type, o.Record}, o)
	k.byThing.Set(thing{o.Source, o.Type, o.Outside}, o.Record)
	k.byPlace.Set(thing{o.Source, o.Type, strings.ToLower(o.Place)}, o.Record)
	k.count(o, 1)
}

func (k *Known) drop(o Origin) {
	was, ok := k.Origin(o.Type, o.Record)
	if !ok {
		return
	}
	k.byRecord.Delete(record{was.Type, was.Record})
	k.byThing.Delete(thing{was.Source, was.Type, was.Outside})
	k.byPlace.Delete(thing{was.Source, was.Type, strings.ToLower(was.Place)})
	k.count(was, -1)
}

// count counts what a source has brought.
func (k *Known) count(o Origin, by int) {
	n := k.counts[o.Source]
	switch {
	case o.Gone && (o.Type == policy.Devices || o.Type == policy.Sites):
		n.Vanished += by
	case o.Gone:
	case o.Type == policy.Users:
		n.Users += by
	case o.Type == policy.UserGroups:
		n.Groups += by
	case o.Type == policy.Devices:
		n.Devices += by
	case o.Type == policy.Sites:
		n.Sites += by
	case o.Type == policy.Calendars:
		n.Calendars += by
	}
	k.counts[o.Source] = n
}

func (k *Known) join(m Member) {
	k.leave(m)
	in, _ := k.members.Get(m.User)
	if in = maps.Clone(in); in == nil { // others have the map
		in = map[string]string{}
	}
	in[m.Group] = m.Source
	k.members.Set(m.User, in)
	k.countMember(m.Source, 1)
}

func (k *Known) leave(m Member) {
	in, _ := k.members.Get(m.User)
	from, ok := in[m.Group]
	if !ok {
		return
	}
	k.countMember(from, -1)
	if len(in) == 1 {
		k.members.Delete(m.User)
		return
	}
	in = maps.Clone(in) // others have the map
	delete(in, m.Group)
	k.members.Set(m.User, in)
}

func (k *Known) countMember(source string, by int) {
	n := k.counts[source]
	n.Members += by
	k.counts[source] = n
}

// Fork is the same, for somebody to change: nobody else may have it then.
func (k *Known) Fork() *Known {
	next := &Known{byRecord: k.byRecord.Fork(), byThing: k.byThing.Fork(), byPlace: k.byPlace.Fork(), members: k.members.Fork(), counts: maps.Clone(k.counts), sources: k.sources, fed: k.fed}
	if next.counts == nil {
		next.counts = map[string]Counts{}
	}
	return next
}

// Take changes what is known, of which nobody else may have it, by a plan that is carried out.
func (k *Known) Take(p *Plan) {
	for _, o := range p.Lost {
		k.drop(o)
	}
	for _, o := range p.Origins {
		k.put(o)
	}
	for _, m := range p.Left {
		k.leave(m)
	}
	for _, m := range p.Joined {
		k.join(m)
	}
}

// With is what is known once a plan was carried out that removes some users.
func (k *Known) With(p *Plan, removed []string) *Known {
	next := k.Fork()
	for _, id := range removed {
		next.drop(Origin{Type: policy.Users, Record: id})
		in, _ := next.members.Get(id)
		for group, source := range in {
			next.leave(Member{source, group, id})
		}
	}
	if p != nil {
		next.Take(p)
	}
	return next
}

// Undone is what else is known once a reading was taken back: who is suspended by that comes back with the next.
func (k *Known) Undone(done []policy.RecordChange) *Plan {
	out := &Plan{}
	for _, c := range done {
		before, was := c.Before.(*policy.User)
		after, is := c.After.(*policy.User)
		if !was || !is || before.Status != policy.Active || after.Status != policy.Suspended {
			continue
		}
		if o, ok := k.Origin(policy.Users, after.Key()); ok {
			o.Suspended = true
			out.Origins = append(out.Origins, o)
		}
	}
	return out
}
