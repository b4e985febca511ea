package source

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"
	"unicode"

	"sentier/internal/policy"
)

// Known is what is known of what sources have brought. It never changes.
type Known struct {
	byRecord map[record]Origin
	byThing  map[thing]string    // the record's id
	byPlace  map[thing]string    // likewise, by where a thing stands, without regard to capitals
	members  map[member]string   // the source that brought the membership
	counts   map[string][3]int   // by source: users, groups, memberships
	names    map[string]string   // of sources
	undo     map[string]bool     // of sources: a reading can be taken back
	fed      map[string][]string // by group: the sources that feed it
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
	member struct{ group, user string }
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
	k := &Known{
		byRecord: make(map[record]Origin, len(origins)), byThing: make(map[thing]string, len(origins)), byPlace: make(map[thing]string, len(origins)), members: make(map[member]string, len(members)),
		counts: map[string][3]int{}, names: map[string]string{}, undo: map[string]bool{}, fed: map[string][]string{},
	}
	for _, s := range sources {
		k.names[s.ID], k.undo[s.ID] = s.Name, s.Undo
		for _, g := range s.Groups {
			if !slices.Contains(k.fed[g], s.ID) {
				k.fed[g] = append(k.fed[g], s.ID)
			}
		}
	}
	for _, o := range origins {
		k.put(o)
		k.count(o)
	}
	for _, m := range members {
		k.members[member{m.Group, m.User}] = m.Source
		n := k.counts[m.Source]
		n[2]++
		k.counts[m.Source] = n
	}
	return k
}

// Counts are how many users, groups and memberships a source has brought that are still there.
func (k *Known) Counts(source string) (users, groups, members int) {
	n := k.counts[source]
	return n[0], n[1], n[2]
}

// Origin is from where a record comes, if it does.
func (k *Known) Origin(t policy.Type, id string) (Origin, bool) {
	o, ok := k.byRecord[record{t, id}]
	return o, ok
}

// Stands finds the record that stands for a thing of a source.
func (k *Known) Stands(source string, t policy.Type, outside string) (id string, ok bool) {
	id, ok = k.byThing[thing{source, t, outside}]
	return id, ok
}

// Name is how people know a source.
func (k *Known) Name(source string) string { return cmp.Or(k.names[source], source) }

// MayUndo tells whether a reading of a source can be taken back.
func (k *Known) MayUndo(source string) bool { return k.undo[source] }

// Brings is the source that has brought a membership, if one has.
func (k *Known) Brings(group, user string) (source string, ok bool) {
	source, ok = k.members[member{group, user}]
	return source, ok
}

// Feeds are the sources whose mappings feed a group.
func (k *Known) Feeds(group string) []string { return k.fed[group] }

// Empty tells whether no source has brought anything, and none feeds a group.
func (k *Known) Empty() bool { return len(k.byRecord)+len(k.members)+len(k.fed) == 0 }

// Locked tells what of a change a source keeps: the source, the record and what of it, or ok is false.
func (k *Known) Locked(c policy.RecordChange) (source string, what policy.Said, ok bool) {
	if k.Empty() {
		return "", what, false
	}
	r := c.Record()
	t, id := r.Type(), r.Key()
	if o, ok := k.byRecord[record{t, id}]; ok && c.Before != nil && !o.Gone {
		if c.After == nil && (t == policy.Users || o.Made) {
			return o.Source, policy.Say("%s itself", r.Title()), true
		}
		if c.After == nil {
			return o.Source, policy.Say("the members of %s", r.Title()), true
		}
		for _, f := range policy.Describe(t).Fields {
			if slices.Contains(kept[t], f.Name) && (t == policy.Users || o.Made) && !sameField(&f, c.Before, c.After) {
				what := policy.Say("the name of %s", c.Before.Title())
				if f.Name == "email" {
					what = policy.Say("the address of %s", c.Before.Title())
				}
				return o.Source, what, true
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
		if source, ok := k.members[member{id, e.Value}]; ok && e.From.IsZero() && e.Until.IsZero() {
			return source, policy.Say("the membership of %s in %s", e.Value, r.Title()), true
		}
	}
	return "", what, false
}

// sameField tells whether a field of a record is as it was.
func sameField(f *policy.Field, before, after policy.Record) bool {
	in := func(r policy.Record) any { return f.In(reflect.ValueOf(r).Elem()).Interface() }
	return reflect.DeepEqual(in(before), in(after))
}

// Matched is what a mapping, or a rule, comes to: whether the source has the group, and how many people are in it.
type Matched struct {
	Outside string // as it is mapped, or as the group is called that a rule fits
	Place   string
	Group   string // ours
	Rule    bool
	Make    bool // it is to be made
	Found   bool
	Members int
	Near    string // the group that was probably meant, where there is none
	NearBy  int    // how many people are in that
	Why     string // of a mapping that is not found: "", "missing" or "ambiguous"
}

// Plan is what comes of what a source holds.
type Plan struct {
	Changes []policy.Change
	Origins []Origin // that are new, or other than they were
	Lost    []Origin
	Joined  []Member
	Left    []Member
	Told    []Problem
	Matched []Matched // the mappings, and what the rules fit
	Loose   []Matched // groups of the source that nothing maps
	People  int       // who come

	NewUsers, ChangedUsers, GoneUsers, BackUsers int
	UsersBefore, MembersBefore                   int
	share                                        int
}

// TooMany tells whether more would go at once than the settings let.
func (p *Plan) TooMany() bool {
	over := func(gone, of int) bool { return gone > alwaysMay && gone*100 > of*p.share }
	return over(p.GoneUsers, p.UsersBefore) || over(len(p.Left), p.MembersBefore)
}

// planner works a plan out.
type planner struct {
	Plan
	policy   *policy.Policy
	known    *Known
	source   string
	settings *Intake
	held     *Held

	users map[string]string // by outside id: our id of those who come
	mails map[string]int    // how many people have an address once all have come
	gone  map[string]bool   // users who are removed
	left  *policy.Policy    // without those who are removed
}

// Make works out what comes of what a source holds.
func Make(p *policy.Policy, known *Known, source string, settings *Intake, held *Held) Plan {
	w := &planner{policy: p, known: known, source: source, settings: settings, held: held, users: map[string]string{}, gone: map[string]bool{}, mails: map[string]int{}, left: p}
	w.share = cmp.Or(settings.Share, DefaultShare)
	w.Told = slices.Clone(held.Told)
	w.UsersBefore, _, w.MembersBefore = known.Counts(source)
	feeds := w.match()
	w.people(feeds)
	w.members(feeds)
	return w.Plan
}

func (w *planner) tell(place, form string, args ...any) {
	w.Told = append(w.Told, Problem{place, policy.Say(form, args...)})
}

// feed is that a group of the source feeds one of ours.
type feed struct {
	from *Group
	to   string
}

// match finds which groups of the source feed which of ours.
func (w *planner) match() (out []feed) {
	byName, byPlace := map[string][]*Group{}, map[string]*Group{}
	var names []string
	for i := range w.held.Groups {
		g := &w.held.Groups[i]
		name := policy.FoldName(g.Name)
		byName[name] = append(byName[name], g)
		names = append(names, g.Name)
		byPlace[foldPlace(g.Place)] = g
	}
	mapped := map[*Group]bool{}
	for _, m := range w.settings.Groups {
		row := Matched{Outside: m.Outside, Group: m.Group}
		found := byName[policy.FoldName(m.Outside)]
		if g := byPlace[foldPlace(m.Outside)]; g != nil && foldPlace(m.Outside) != "" {
			found = []*Group{g}
		}
		switch len(found) {
		case 1:
			row.Found, row.Place, row.Members = true, found[0].Place, len(found[0].Members)
			mapped[found[0]] = true
			out = append(out, feed{found[0], m.Group})
		case 0:
			row.Why, row.Near = "missing", nearName(m.Outside, names)
			if row.Near != "" {
				row.NearBy = len(byName[policy.FoldName(row.Near)][0].Members)
			}
		default:
			row.Why = "ambiguous"
		}
		w.Matched = append(w.Matched, row)
	}
	made := map[string]string{} // by id of a group that a rule makes: its name
	for i := range w.held.Groups {
		g := &w.held.Groups[i]
		if mapped[g] {
			continue
		}
		row, to, ok := w.byRule(g, made)
		if ok {
			out = append(out, feed{g, to})
		}
		if row.Group != "" {
			w.Matched = append(w.Matched, row)
		} else {
			w.Loose = append(w.Loose, row)
		}
	}
	return out
}

// byRule finds the first rule that a group fits.
func (w *planner) byRule(g *Group, made map[string]string) (row Matched, to string, ok bool) {
	row = Matched{Outside: g.Name, Place: g.Place, Members: len(g.Members), Found: true}
	for _, rule := range w.settings.Rules {
		rest, fits := rule.fits(g)
		if !fits {
			continue
		}
		to := strings.Replace(rule.Group, "*", policy.MakeID(rest, func(string) bool { return false }), 1)
		row.Group, row.Rule = to, true
		if _, there := policy.Find[*policy.UserGroup](w.policy, to); there || made[to] != "" {
			return row, to, true
		}
		if !rule.Make {
			row.Found, row.Why = false, "missing"
			w.tell(g.Place, "%s fits a rule, but there is no user group %q: make it, or let the rule make it", g.Name, to)
			return row, to, false
		}
		group := &policy.UserGroup{ID: policy.UserGroupID(to), Name: Plain(g.Name), Enabled: policy.On}
		if !w.sound(g.Place, w.policy, group) {
			row.Found = false
			return row, to, false
		}
		row.Make, made[to] = true, g.Name
		w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.UserGroups, ID: to, Record: group})
		w.Origins = append(w.Origins, Origin{Source: w.source, Type: policy.UserGroups, Outside: g.Outside, Record: to, Place: g.Place, Made: true})
		return row, to, true
	}
	return row, "", false
}

// sound tells whether a record can be put beside those of a policy, and says why where it cannot.
func (w *planner) sound(place string, beside *policy.Policy, r policy.Record) bool {
	_, _, err := beside.Apply([]policy.Change{{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}})
	if err == nil {
		return true
	}
	w.tell(place, "%v", policy.SaidBy(err))
	return false
}

// nearName finds the name that was probably meant: letter by letter, or but for spaces and hyphens.
func nearName(name string, names []string) string {
	plain := func(s string) string {
		return strings.Map(func(r rune) rune {
			if strings.ContainsRune(" -_.", r) {
				return -1
			}
			return r
		}, policy.FoldName(s))
	}
	for _, other := range names {
		if plain(other) == plain(name) {
			return other
		}
	}
	return policy.Nearest(name, names)
}

// people finds who comes, who is other than before, and who comes no more.
func (w *planner) people(feeds []feed) {
	comes := map[string]bool{}
	for _, f := range feeds {
		for _, outside := range f.from.Members {
			comes[outside] = true
		}
	}
	byID, ours := map[string][]*Person{}, map[string]bool{}
	for i := range w.held.People {
		p := &w.held.People[i]
		if !w.settings.Everybody && !comes[p.Outside] {
			continue
		}
		w.People++
		if id := UserID(p.ID); id != "" {
			byID[id] = append(byID[id], p)
		}
		if mail := mailOf(p); mail != "" {
			w.mails[mail]++
		}
		if id, ok := w.known.Stands(w.source, policy.Users, p.Outside); ok {
			ours[id] = true
		}
		ours[w.settings.Links[p.Outside]] = true
	}
	for u := range policy.Each[*policy.User](w.policy) {
		if u.Email != "" && !ours[u.Key()] {
			w.mails[strings.ToLower(u.Email)]++
		}
	}
	seen := map[string]bool{}
	for i := range w.held.People {
		p := &w.held.People[i]
		if !w.settings.Everybody && !comes[p.Outside] {
			continue
		}
		seen[p.Outside] = true
		w.person(p, byID)
	}
	for _, o := range w.known.things(w.source, policy.Users) {
		if !seen[o.Outside] {
			w.goes(o)
		}
	}
	if w.left != w.policy {
		w.Changes = append(w.Changes, policy.Changes(w.policy.Compare(w.left))...)
	}
}

// mailOf is by what somebody's address is told from others.
func mailOf(p *Person) string { return strings.ToLower(Plain(p.Email)) }

// address is somebody's address, or none where others have it as well: one person has one account.
func (w *planner) address(p *Person) string {
	if w.mails[mailOf(p)] < 2 {
		return Plain(p.Email)
	}
	w.tell(p.Place, "%s has the address %s, which somebody else has: nobody gets it", p.Name, clip(p.Email))
	return ""
}

// Plain is a text as somebody may read it: without what turns the direction of letters, or is not seen at all.
func Plain(text string) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Cc, r) || unicode.Is(unicode.Bidi_Control, r) || r == unicode.ReplacementChar {
			return -1
		}
		return r
	}, text))
}

// At finds the record of a thing by where it stands, without regard to capitals.
func (k *Known) At(source string, t policy.Type, place string) (id string, ok bool) {
	id, ok = k.byPlace[thing{source, t, strings.ToLower(place)}]
	return id, ok
}

// Things are what a source has brought of a type that is there still, by the ids of the records.
func (k *Known) Things(source string, t policy.Type) []Origin {
	out := slices.DeleteFunc(k.things(source, t), func(o Origin) bool { return o.Gone })
	slices.SortFunc(out, func(a, b Origin) int { return strings.Compare(a.Record, b.Record) })
	return out
}

// Memberships are, by user, the groups in which a source has brought them.
func (k *Known) Memberships(source string) map[string][]string {
	out := map[string][]string{}
	for m, from := range k.members {
		if from == source {
			out[m.user] = append(out[m.user], m.group)
		}
	}
	for _, list := range out {
		slices.Sort(list)
	}
	return out
}

// things are what a source has brought of a type, by their outside ids.
func (k *Known) things(source string, t policy.Type) (out []Origin) {
	for at, o := range k.byRecord {
		if at.t == t && o.Source == source {
			out = append(out, o)
		}
	}
	slices.SortFunc(out, func(a, b Origin) int { return strings.Compare(a.Outside, b.Outside) })
	return out
}

// UserID is the id that a user gets of that by which a person is known; empty: none can be made of it.
func UserID(known string) string {
	id := strings.ToLower(strings.TrimSpace(known))
	if !policy.ValidID(id) {
		return ""
	}
	return id
}

// person finds what comes of somebody who comes.
func (w *planner) person(p *Person, byID map[string][]*Person) {
	if id, ok := w.known.byThing[thing{w.source, policy.Users, p.Outside}]; ok {
		if u, there := policy.Find[*policy.User](w.policy, id); there {
			w.comesAgain(p, u)
			return
		}
	}
	if id := w.settings.Links[p.Outside]; id != "" {
		u, there := policy.Find[*policy.User](w.policy, id)
		o, other := w.known.byRecord[record{policy.Users, id}]
		switch {
		case !there:
			w.tell(p.Place, "%s is linked to the user %q, who is not there", p.Name, id)
		case other && (o.Source != w.source || o.Outside != p.Outside):
			w.tell(p.Place, "%s is linked to the user %q, who is somebody else: %s keeps them", p.Name, id, w.known.Name(o.Source))
		default:
			w.comesAgain(p, u)
			return
		}
		return
	}
	id := UserID(p.ID)
	switch {
	case strings.TrimSpace(p.ID) == "":
		w.tell(p.Place, "%s has no id there: nothing could be made of it here", cmp.Or(p.Name, p.Place))
		return
	case id == "":
		w.tell(p.Place, "%q cannot be an id here: small letters, digits and . _ @ + -, up to %d", clip(p.ID), policy.MaxID)
		return
	case len(byID[id]) > 1:
		if byID[id][0] == p {
			w.tell(p.Place, "%d people there are known as %q: none of them comes", len(byID[id]), id)
		}
		return
	}
	if u, there := policy.Find[*policy.User](w.policy, id); there {
		if o, kept := w.known.byRecord[record{policy.Users, id}]; kept {
			w.tell(p.Place, "there is a user %q already, whom %s keeps as somebody else", id, w.known.Name(o.Source))
			return
		}
		w.tell(p.Place, "there is a user %q already (%s): link them if they are the same", id, u.Title())
		return
	}
	u := &policy.User{ID: policy.UserID(id), Name: Plain(p.Name), Email: w.address(p), Kind: policy.Person, Status: policy.Active}
	if !w.sound(p.Place, policy.Empty(), u) {
		return
	}
	w.NewUsers++
	w.users[p.Outside] = id
	w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: id, Record: u})
	w.Origins = append(w.Origins, Origin{Source: w.source, Type: policy.Users, Outside: p.Outside, Record: id, Place: p.Place})
}

// comesAgain finds what of a user is other at the source than here.
func (w *planner) comesAgain(p *Person, u *policy.User) {
	w.users[p.Outside] = u.Key()
	o, known := w.known.byRecord[record{policy.Users, u.Key()}]
	next := *u
	next.Name, next.Email = Plain(p.Name), w.address(p)
	back := known && o.Suspended && u.Status == policy.Suspended
	if back {
		next.Status = policy.Active
		w.BackUsers++
	}
	if next.Name != u.Name || next.Email != u.Email || back {
		if w.sound(p.Place, policy.Empty(), &next) {
			if !back {
				w.ChangedUsers++
			}
			w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: u.Key(), Record: &next})
		}
	}
	if !known || o.Gone || o.Place != p.Place {
		w.Origins = append(w.Origins, Origin{Source: w.source, Type: policy.Users, Outside: p.Outside, Record: u.Key(), Place: p.Place})
	}
}

// goes finds what becomes of somebody who comes no more.
func (w *planner) goes(o Origin) {
	u, there := policy.Find[*policy.User](w.policy, o.Record)
	if !there {
		w.Lost = append(w.Lost, o)
		return
	}
	if o.Gone {
		return
	}
	w.GoneUsers++
	gone := o
	gone.Gone = true
	switch cmp.Or(w.settings.Gone, GoneSuspended) {
	case GoneRemoved:
		left, _, err := w.left.Apply(w.left.Cascade(policy.Users, o.Record))
		if err != nil {
			w.tell(o.Place, "%v", policy.SaidBy(err))
			return
		}
		w.left, w.gone[o.Record] = left, true
		w.Lost = append(w.Lost, o)
		return
	case GoneSuspended:
		if u.Status == policy.Active { // else whoever suspended them had reasons of their own: they do not come back by themselves
			next := *u
			next.Status, gone.Suspended = policy.Suspended, true
			w.Changes = append(w.Changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: o.Record, Record: &next})
		}
	}
	w.Origins = append(w.Origins, gone)
}

// members finds which memberships come and go.
func (w *planner) members(feeds []feed) {
	want := map[member]bool{}
	for _, f := range feeds {
		for _, outside := range f.from.Members {
			if user, ok := w.users[outside]; ok {
				want[member{f.to, user}] = true
			}
		}
	}
	for at, source := range w.known.members {
		if source == w.source && !want[at] {
			w.Left = append(w.Left, Member{w.source, at.group, at.user})
		}
	}
	w.Left = inOrder(w.Left)
	for _, m := range w.Left {
		if g, ok := policy.Find[*policy.UserGroup](w.policy, m.Group); ok && Has(g, m.User) && !w.gone[m.User] {
			w.Changes = append(w.Changes, policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: m.Group, List: "members", Entry: policy.Entry{Value: m.User}, Beside: true})
		}
	}
	var come []Member
	for at := range want {
		come = append(come, Member{w.source, at.group, at.user})
	}
	for _, m := range inOrder(come) {
		source, brought := w.known.members[member{m.Group, m.User}]
		g, there := policy.Find[*policy.UserGroup](w.policy, m.Group)
		if there && Has(g, m.User) {
			continue // it is so: by us, by hand, or by another source
		}
		if !brought || source != w.source {
			w.Joined = append(w.Joined, m)
		}
		w.Changes = append(w.Changes, policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: m.Group, List: "members", Entry: policy.Entry{Value: m.User}, Beside: true})
	}
}

// Has tells whether somebody is a member of a group without an end.
func Has(g *policy.UserGroup, user string) bool {
	i, found := slices.BinarySearchFunc(g.Members, policy.Member{User: policy.UserID(user)}, policy.CompareMembers)
	return found && g.Members[i].Span() == policy.Span{}
}

func inOrder(list []Member) []Member {
	slices.SortFunc(list, func(a, b Member) int {
		return cmp.Or(strings.Compare(a.Group, b.Group), strings.Compare(a.User, b.User))
	})
	return list
}

// clip bounds what somebody else has written.
func clip(text string) string {
	if r := []rune(text); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return text
}

// String tells a problem in English.
func (p Problem) String() string { return fmt.Sprintf("%s: %s", p.Place, p.Why.Error()) }

// Brought are, by source, the users whose memberships in a group it has brought.
func (k *Known) Brought(g *policy.UserGroup) map[string][]string {
	out := map[string][]string{}
	for _, m := range g.Members {
		if from, ok := k.members[member{g.Key(), string(m.User)}]; ok && (m.Span() == policy.Span{}) {
			out[from] = append(out[from], string(m.User))
		}
	}
	return out
}

func (k *Known) put(o Origin) {
	if was, ok := k.byRecord[record{o.Type, o.Record}]; ok {
		k.drop(was)
	}
	k.byRecord[record{o.Type, o.Record}] = o
	k.byThing[thing{o.Source, o.Type, o.Outside}] = o.Record
	k.byPlace[thing{o.Source, o.Type, strings.ToLower(o.Place)}] = o.Record
}

func (k *Known) drop(o Origin) {
	was := k.byRecord[record{o.Type, o.Record}]
	delete(k.byRecord, record{o.Type, o.Record})
	delete(k.byThing, thing{o.Source, o.Type, o.Outside})
	delete(k.byPlace, thing{o.Source, o.Type, strings.ToLower(was.Place)})
}

// Fork is the same, for somebody to change: nobody else may have it then.
func (k *Known) Fork() *Known {
	return &Known{byRecord: maps.Clone(k.byRecord), byThing: maps.Clone(k.byThing), byPlace: maps.Clone(k.byPlace), members: maps.Clone(k.members), counts: map[string][3]int{}, names: k.names, undo: k.undo, fed: k.fed}
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
		delete(k.members, member{m.Group, m.User})
	}
	for _, m := range p.Joined {
		k.members[member{m.Group, m.User}] = m.Source
	}
}

// With is what is known once a plan was carried out that removes some users.
func (k *Known) With(p *Plan, removed []string) *Known {
	next := k.Fork()
	for _, id := range removed {
		if o, ok := next.byRecord[record{policy.Users, id}]; ok {
			next.drop(o)
		}
	}
	if len(removed) > 0 {
		maps.DeleteFunc(next.members, func(m member, _ string) bool { return slices.Contains(removed, m.user) })
	}
	if p != nil {
		next.Take(p)
	}
	for _, o := range next.byRecord {
		next.count(o)
	}
	for _, from := range next.members {
		n := next.counts[from]
		n[2]++
		next.counts[from] = n
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

// count counts what a source has brought.
func (k *Known) count(o Origin) {
	n := k.counts[o.Source]
	switch {
	case o.Gone:
	case o.Type == policy.Users:
		n[0]++
	case o.Type == policy.UserGroups:
		n[1]++
	}
	k.counts[o.Source] = n
}
