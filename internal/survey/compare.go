package survey

import (
	"cmp"
	"maps"
	"slices"

	"sentier/internal/container"
	"sentier/internal/decision"
	"sentier/internal/policy"
)

// Difference is what one user gains and loses on one device, or on a point where that differs from its device.
type Difference struct {
	User         policy.UserID
	Device       policy.DeviceID
	Point        policy.PointID
	Gained, Lost []Possibility // First is the first instant at which only one of the policies allows it, in the circumstances that are Given
}

// Tally counts rights of users on devices by degree.
type Tally [Now + 1]int

// All counts them in all degrees.
func (t *Tally) All() int { return t[Now] + t[Later] + t[If] }

// Differences are what two policies allow differently, at an instant, within 400 days of it or in other circumstances: the impact of the
// changes between them. A right counts once among what is gained, in the first degree in which the one policy allows at some instant and
// in some circumstances what the other does not; likewise among what is lost. Nothing is gained or lost only where both allow the same at
// every instant and in all circumstances. A point counts where it differs from its device.
type Differences struct {
	Gained, Lost Tally
	Control      int          // of what is gained, rights that control
	Gainers      int          // users who gain anything
	Users        int          // users who gain or lose anything
	Devices      int          // devices on which anybody does
	Pairs        int          // of a user and a device, or a point, of which the Items are the first
	Items        []Difference // what concerns control first
	Mandates     []MandateDifference
}

// Compare finds who gains and loses what between two policies. done is what was done to records where after
// came from before by [decision.Compiled.Next], and nil where the two may be any; with it, only what a change can touch
// is looked at. most bounds the items, not the counts.
func Compare(before, after *decision.Compiled, done []policy.RecordChange, in Circumstances, most int) Differences {
	if in.Degrees == 0 {
		in.Degrees = AllDegrees
	}
	p := &comparison{before: Of(before), after: Of(after), in: in, at: decision.MomentOf(in.At), most: most, rights: union(before.Rights, after.Rights), known: map[string]*outcome{}}
	users, devices := p.joints(done)
	devices = slices.DeleteFunc(devices, func(j joint[policy.DeviceID, decision.DeviceClass]) bool {
		return !in.shows(j.before) && !in.shows(j.after)
	})
	p.run(users, devices)
	p.sort()
	p.out.Mandates = compareMandates(before, after, done, p.at)
	return p.out
}

// joints parts users and devices by their classes before and after, and marks those whom the change can touch.
func (p *comparison) joints(done []policy.RecordChange) (users []joint[policy.UserID, decision.UserClass], devices []joint[policy.DeviceID, decision.DeviceClass]) {
	before, after := p.before, p.after
	p.findLines()
	if t := before.Touched(done); done == nil || t.EveryDevice || t.Wholesale(after.Policy()) {
		users, devices = pair(&before.Users, &after.Users, nil), pair(&before.Devices, &after.Devices, nil)
	} else {
		users, devices = pair(&before.Users, &after.Users, slices.Collect(maps.Keys(t.Users))), pair(&before.Devices, &after.Devices, slices.Collect(maps.Keys(t.Devices)))
	}
	p.everything = before.DirectFirst != after.DirectFirst || !p.rights.alike
	p.look(users, devices)
	return users, devices
}

// joint is those who share a class before and a class after; one is nil where they are not there.
type joint[ID ~string, C any] struct {
	before, after *C
	ids           container.Roll[ID]
	moved         bool // the class is another one
	near          bool // a changed grant may concern them
}

// pair finds those who share both classes. moved are those whose class may be another one; nil: anybody's.
func pair[ID ~string, C any](before, after *container.Crowd[ID, C], moved []ID) []joint[ID, C] {
	var out []joint[ID, C]
	lists := map[[2]int32][]ID{}
	put := func(id ID) {
		key := [2]int32{-1, -1}
		if s := before.Where.Find(string(id)); s != nil {
			key[0] = s.Class
		}
		if s := after.Where.Find(string(id)); s != nil {
			key[1] = s.Class
		}
		if key[0] != key[1] || moved == nil {
			lists[key] = append(lists[key], id)
		}
	}
	if moved == nil {
		everybody(before, func(id ID) { put(id) })
		everybody(after, func(id ID) {
			if before.Where.Find(string(id)) == nil {
				put(id)
			}
		})
	} else {
		for _, id := range moved {
			put(id)
		}
		for n := range after.Inhabited {
			if ids := *after.Members.At(n); n < int32(before.Classes.Size) {
				ids = ids.Except(moved, func(id ID) bool {
					s := before.Where.Find(string(id))
					return s != nil && s.Class == n
				})
				out = append(out, joint[ID, C]{before: before.Classes.At(n), after: after.Classes.At(n), ids: ids})
			}
		}
	}
	for key, ids := range lists {
		slices.Sort(ids)
		j := joint[ID, C]{ids: container.RollOf(ids), moved: true}
		if key[0] >= 0 {
			j.before = before.Classes.At(key[0])
		}
		if key[1] >= 0 {
			j.after = after.Classes.At(key[1])
		}
		out = append(out, j)
	}
	return out
}

func everybody[ID ~string, C any](c *container.Crowd[ID, C], visit func(ID)) {
	for n := range c.Inhabited {
		for id := range c.Members.At(n).All {
			visit(id)
		}
	}
}

type comparison struct {
	before, after Survey
	in            Circumstances
	at            decision.Moment
	rights        rightUnion
	everything    bool
	most          int
	out           Differences
	control       []Difference // the first that concern control, and
	others        []Difference // the first of the others

	same  []int32 // by the number of a line of after: that of the line of before that means the same; -1: there is none
	key   []byte
	known map[string]*outcome // by what bears on a pair before and after
}

// outcome is what is gained and lost by a pair of classes.
type outcome struct{ gained, lost []Prospect } // by the union's numbers of rights

func (o *outcome) none() bool {
	some := func(p Prospect) bool { return p.Degree != Impossible }
	return o == nil || !slices.ContainsFunc(o.gained, some) && !slices.ContainsFunc(o.lost, some)
}

func (o *outcome) equal(x *outcome) bool {
	if o.none() || x.none() {
		return o.none() && x.none()
	}
	return slices.EqualFunc(o.gained, x.gained, Prospect.equal) && slices.EqualFunc(o.lost, x.lost, Prospect.equal)
}

// findLines finds which lines of both policies mean the same.
func (p *comparison) findLines() {
	sites := p.before.Policy().Table(policy.Sites).Same(p.after.Policy().Table(policy.Sites))
	number := map[lineKey]int32{}
	for i := range p.before.Lines {
		l := &p.before.Lines[i]
		number[lineKey{l.Grant, l.Number}] = int32(i)
	}
	p.same = make([]int32, len(p.after.Lines))
	old, new := make(decision.RightSet, p.rights.words), make(decision.RightSet, p.rights.words)
	for i := range p.after.Lines {
		p.same[i] = -1
		l := &p.after.Lines[i]
		n, there := number[lineKey{l.Grant, l.Number}]
		if !there || l.Ifs != nil && len(l.Ifs.Places) > 0 && !sites {
			continue
		}
		had := &p.before.Lines[n]
		if !slices.Equal(p.rights.of(p.rights.old, had.Rights, old), p.rights.of(p.rights.new, l.Rights, new)) {
			continue
		}
		if slices.EqualFunc(had.When, l.When, p.sameSchedule) {
			p.same[i] = n
		}
	}
}

type lineKey struct {
	grant  *policy.Grant
	number int
}

// sameSchedule tells whether a schedule runs alike in both policies.
func (p *comparison) sameSchedule(a, b *decision.Schedules) bool {
	if a.Record != b.Record {
		return false
	}
	calendar := func(id policy.CalendarID) bool {
		x, _ := p.before.Policy().Get(policy.Calendars, string(id))
		y, _ := p.after.Policy().Get(policy.Calendars, string(id))
		return x == y
	}
	for _, id := range a.Record.Closed {
		if !calendar(id) {
			return false
		}
	}
	for _, s := range a.Record.Special {
		if !calendar(s.Calendar) {
			return false
		}
	}
	return true
}

// look marks the classes that are others than before, and those whom a line concerns that is another.
func (p *comparison) look(users []joint[policy.UserID, decision.UserClass], devices []joint[policy.DeviceID, decision.DeviceClass]) {
	old, new := p.before.namesOf(), p.after.namesOf()
	changed := make([]bool, len(p.before.Lines))
	for i := range changed {
		changed[i] = true
	}
	fresh := make([]bool, len(p.after.Lines))
	for i, n := range p.same {
		if fresh[i] = n < 0; n >= 0 {
			changed[n] = false
		}
	}
	before, after := p.before.concern(changed), p.after.concern(fresh)
	for i := range users {
		u := &users[i]
		u.near = u.before != nil && before.user(u.before) || u.after != nil && after.user(u.after)
		u.moved = u.before == nil || u.after == nil || !old.sameUser(u.before, &new, u.after)
	}
	for i := range devices {
		d := &devices[i]
		d.near = d.before != nil && before.device(d.before) || d.after != nil && after.device(d.after)
		d.moved = d.before == nil || d.after == nil || !old.sameDevice(d.before, &new, d.after)
	}
}

// names are the keys of subjects and targets by their numbers, by which two policies are compared.
type names struct {
	subjects []decision.SubjectKey
	targets  []decision.TargetKey
}

func (c Survey) namesOf() names {
	out := names{make([]decision.SubjectKey, len(c.BySubject)), make([]decision.TargetKey, len(c.ByTarget))}
	for k, s := range c.Subjects {
		out.subjects[s] = k
	}
	for k, t := range c.Targets {
		out.targets[t] = k
	}
	return out
}

// sameUser tells whether two classes of users, one of each policy, are alike but for the lines of grants.
func (n *names) sameUser(a *decision.UserClass, o *names, b *decision.UserClass) bool {
	if a.Bar != b.Bar || a.Valid != b.Valid || len(a.Held) != len(b.Held) {
		return false
	}
	for _, h := range a.Held {
		if !slices.ContainsFunc(b.Held, func(x decision.Held) bool {
			return o.subjects[x.Subject] == n.subjects[h.Subject] && x.Period == h.Period
		}) {
			return false
		}
	}
	return true
}

// sameDevice tells whether two classes of devices, one of each policy, are alike but for the lines of grants.
func (n *names) sameDevice(a *decision.DeviceClass, o *names, b *decision.DeviceClass) bool {
	x, y := a.Facts, b.Facts
	if x.State != y.State || x.Kind != y.Kind || a.Lockout != b.Lockout || x.Zone.String() != y.Zone.String() || len(x.Targets) != len(y.Targets) {
		return false
	}
	for _, t := range x.Targets {
		if !slices.ContainsFunc(y.Targets, func(u decision.Target) bool { return o.targets[u] == n.targets[t] }) {
			return false
		}
	}
	points := func(of *names, f *decision.DeviceFacts) (out []decision.TargetKey) {
		for _, t := range f.Points {
			out = append(out, of.targets[t])
		}
		return out
	}
	return slices.Equal(points(n, x), points(o, y))
}

// concern is whom, and what, some lines concern.
type concern struct{ subjects, targets []bool }

func (c Survey) concern(lines []bool) concern {
	out := concern{make([]bool, len(c.BySubject)), make([]bool, len(c.ByTarget))}
	for i := range c.Lines {
		if lines[i] {
			for _, s := range c.Lines[i].To {
				out.subjects[s] = true
			}
			for _, t := range c.Lines[i].On {
				out.targets[t] = true
			}
		}
	}
	return out
}

func (x *concern) user(u *decision.UserClass) bool {
	return slices.ContainsFunc(u.Held, func(h decision.Held) bool { return x.subjects[h.Subject] })
}

func (x *concern) device(d *decision.DeviceClass) bool {
	is := func(t decision.Target) bool { return x.targets[t] }
	return slices.ContainsFunc(d.Facts.Targets, is) || slices.ContainsFunc(d.Facts.Points, is)
}

func (p *comparison) run(users []joint[policy.UserID, decision.UserClass], devices []joint[policy.DeviceID, decision.DeviceClass]) {
	concerned := make([]bool, len(devices))
	for i := range users {
		u := &users[i]
		if u.ids.Size == 0 {
			continue
		}
		any, before := false, p.out.Gained.All()
		for k := range devices {
			d := &devices[k]
			if d.ids.Size == 0 || !(p.everything || u.moved || d.moved || u.near && d.near) {
				continue
			}
			if p.pair(u, d) {
				any, concerned[k] = true, true
			}
		}
		if any {
			p.out.Users += u.ids.Size
		}
		if p.out.Gained.All() > before {
			p.out.Gainers += u.ids.Size
		}
	}
	for k := range devices {
		if concerned[k] {
			p.out.Devices += devices[k].ids.Size
		}
	}
}

// pair compares what users of one class may do on devices of another, and on their points.
func (p *comparison) pair(u *joint[policy.UserID, decision.UserClass], d *joint[policy.DeviceID, decision.DeviceClass]) bool {
	old, new := decision.ResolvedQuery{Who: u.before, What: d.before}, decision.ResolvedQuery{Who: u.after, What: d.after}
	whole := p.outcome(&old, &new)
	if !whole.none() {
		p.tell(u.ids, d.ids, "", whole)
	}
	some := !whole.none()
	for _, point := range pointsOf(d) {
		old.PointTarget, new.PointTarget = pointTarget(d.before, point), pointTarget(d.after, point)
		if old.PointTarget == 0 && new.PointTarget == 0 {
			continue
		}
		if own := p.outcome(&old, &new); !own.none() && !own.equal(whole) {
			p.tell(u.ids, d.ids, point, own)
			some = true
		}
	}
	return some
}

// pointsOf lists the points of the one device of a class that any grant names.
func pointsOf(d *joint[policy.DeviceID, decision.DeviceClass]) []policy.PointID {
	var out []policy.PointID
	for _, class := range []*decision.DeviceClass{d.before, d.after} {
		if class == nil || class.Facts.Named == nil {
			continue
		}
		for _, point := range class.Facts.Named.Points {
			if !slices.Contains(out, point.ID) {
				out = append(out, point.ID)
			}
		}
	}
	return out
}

func pointTarget(class *decision.DeviceClass, id policy.PointID) decision.Target {
	if class == nil || class.Facts.Named == nil {
		return 0
	}
	i := slices.IndexFunc(class.Facts.Named.Points, func(point policy.Point) bool { return point.ID == id })
	if i < 0 {
		return 0
	}
	return class.Facts.Points[i]
}

// outcome compares the answers about a user and a resource before and after; nil where nothing bears on them.
func (p *comparison) outcome(old, new *decision.ResolvedQuery) *outcome {
	had, has := p.hand(p.before, old), p.hand(p.after, new)
	if len(had.parts)+len(has.parts) == 0 || p.alike(&had, &has) {
		return nil
	}
	p.key = p.key[:0]
	for _, h := range []*hand{&had, &has} {
		if p.key = append(p.key, '/'); h.who != nil && h.what != nil {
			p.key = h.key(p.key)
		}
	}
	if out, ok := p.known[string(p.key)]; ok {
		return out
	}
	out := &outcome{make([]Prospect, len(p.rights.ids)), make([]Prospect, len(p.rights.ids))}
	for n, id := range p.rights.ids {
		if p.in.Right != "" && p.in.Right != id {
			continue
		}
		was, is := slices.Index(p.rights.old, n), slices.Index(p.rights.new, n)
		out.gained[n] = p.search(&had, &has, was, is)
		out.lost[n] = p.search(&has, &had, is, was)
	}
	p.known[string(p.key)] = out
	return out
}

func (p *comparison) search(before, after *hand, had, right int) Prospect {
	if right < 0 || after.who == nil || after.what == nil {
		return Prospect{}
	}
	return (&search{before: before, after: after, had: had, right: right, at: p.at, context: p.in.Context}).prospect(p.in.Degrees)
}

func (p *comparison) hand(c Survey, a *decision.ResolvedQuery) hand {
	if a.Who == nil || a.What == nil || a.Who.Bar != 0 || a.What.Retired || !a.Prefilter() {
		return hand{c: c.Compiled}
	}
	return c.hand(a)
}

// alike tells whether the same bears on a pair before and after, so that no answer is another.
func (p *comparison) alike(had, has *hand) bool {
	if had.who == nil || has.who == nil || len(had.parts) != len(has.parts) || p.before.DirectFirst != p.after.DirectFirst {
		return false
	}
	a, b := had.what, has.what
	if had.who.Valid != has.who.Valid || a.Lockout != b.Lockout || a.Facts.Kind != b.Facts.Kind || a.Facts.Zone.String() != b.Facts.Zone.String() || !p.rights.alike {
		return false
	}
	for i := range has.parts {
		x := &has.parts[i]
		n := p.same[x.Number]
		k := slices.IndexFunc(had.parts, func(y decision.Part) bool { return y.Number == n && y.Direct == x.Direct && y.Idle == x.Idle })
		if n < 0 || k < 0 || !slices.Equal(had.parts[k].Periods, x.Periods) {
			return false
		}
	}
	return true
}

// tell counts what the members of two classes gain and lose, and keeps the first few of each pair of classes.
func (p *comparison) tell(users container.Roll[policy.UserID], devices container.Roll[policy.DeviceID], point policy.PointID, o *outcome) {
	pairs := users.Size * devices.Size
	gained, lost := p.named(o.gained), p.named(o.lost)
	p.out.Pairs += pairs
	control := false
	for i, list := range [][]Possibility{gained, lost} {
		for _, g := range list {
			[]*Tally{&p.out.Gained, &p.out.Lost}[i][g.Degree] += pairs
			controls := p.controls(g.Right)
			control = control || controls
			if controls && i == 0 {
				p.out.Control += pairs
			}
		}
	}
	into := &p.others
	if control {
		into = &p.control
	}
	if len(*into) > 4*p.most {
		return
	}
	left := p.most
	for _, u := range users.From("", p.most) {
		for _, d := range devices.From("", p.most) {
			if left == 0 {
				return
			}
			left--
			*into = append(*into, Difference{u, d, point, gained, lost})
		}
	}
}

// controls tells whether a right is control or implies it, in either policy.
func (p *comparison) controls(id policy.RightID) bool {
	for _, c := range []Survey{p.before, p.after} {
		if n, ok := c.Right(id); ok && c.RightList[n].Controls {
			return true
		}
	}
	return false
}

// sort puts what concerns control first, and each in order.
func (p *comparison) sort() {
	for _, list := range [][]Difference{p.control, p.others} {
		slices.SortFunc(list, func(a, b Difference) int {
			return cmp.Or(cmp.Compare(a.User, b.User), cmp.Compare(a.Device, b.Device), cmp.Compare(a.Point, b.Point))
		})
	}
	all := append(p.control, p.others...)
	p.out.Items = all[:min(p.most, len(all))]
}

func (p *comparison) named(list []Prospect) []Possibility {
	var out []Possibility
	for n, x := range list {
		if x.Degree != Impossible {
			out = append(out, Possibility{p.rights.ids[n], x})
		}
	}
	slices.SortStableFunc(out, func(a, b Possibility) int {
		return decision.Bit(p.controls(b.Right)) - decision.Bit(p.controls(a.Right))
	})
	return out
}

// rightUnion numbers the rights of two policies alike.
type rightUnion struct {
	ids      []policy.RightID
	old, new []int // the union's number of each right
	words    int
	alike    bool // both have the same rights, which mean the same
}

func union(a, b *decision.Rights) rightUnion {
	var u rightUnion
	number := map[policy.RightID]int{}
	take := func(r *decision.Rights) []int {
		var out []int
		for i := range r.RightList {
			id := r.RightList[i].ID
			if _, ok := number[id]; !ok {
				number[id] = len(u.ids)
				u.ids = append(u.ids, id)
			}
			out = append(out, number[id])
		}
		return out
	}
	u.old, u.new = take(a), take(b)
	u.words = (len(u.ids) + 63) / 64
	u.alike = slices.EqualFunc(a.RightList, b.RightList, func(x, y decision.RightInfo) bool {
		return x.ID == y.ID && x.Controls == y.Controls && slices.Equal(x.Kinds, y.Kinds)
	})
	return u
}

// of writes a set by the union's numbers.
func (u *rightUnion) of(numbers []int, set, into decision.RightSet) decision.RightSet {
	clear(into)
	if set != nil {
		for i, n := range numbers {
			if set.Has(i) {
				into.Add(n)
			}
		}
	}
	return into
}
