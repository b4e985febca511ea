package survey

import (
	"cmp"
	"maps"
	"reflect"
	"runtime"
	"slices"
	"sync"

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

func (t *Tally) add(list []Possibility, times int) {
	for i := range list {
		t[list[i].Degree] += times
	}
}

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
	p := newComparison(before, after, in)
	p.most = most
	users, devices := p.joints(done)
	devices = slices.DeleteFunc(devices, func(j deviceJoint) bool { return !in.shows(j.before) && !in.shows(j.after) })
	p.run(users, devices)
	p.sort()
	p.out.Mandates = compareMandates(before, after, done, p.at)
	return p.out
}

// joints parts users and devices by their classes before and after, and marks those whom the change can touch. Where it touches single users and devices
// alone, only those are there, and whoever and whatever they have to do with.
func (p *comparison) joints(done []policy.RecordChange) (users []userJoint, devices []deviceJoint) {
	before, after := p.before, p.after
	t := before.Touched(done)
	all := done == nil || t.EveryDevice || t.Wholesale(after.Policy())
	people, things := slices.AppendSeq([]policy.UserID{}, maps.Keys(t.Users)), slices.AppendSeq([]policy.DeviceID{}, maps.Keys(t.Devices))
	switch {
	case !all && t.Few():
		p.few, p.touched, p.things = true, people, things
		p.sameLines()
		users, devices = moved(&before.Users, &after.Users, people, false), moved(&before.Devices, &after.Devices, things, false)
		met, meeting := p.around(users, devices)
		return append(users, stayed(&before.Users, &after.Users, people, meeting)...), append(devices, stayed(&before.Devices, &after.Devices, things, met)...)
	case all:
		p.findLines()
		users, devices = moved(&before.Users, &after.Users, everybody(&before.Users, &after.Users), true), moved(&before.Devices, &after.Devices, everybody(&before.Devices, &after.Devices), true)
	default:
		p.findLines()
		users = append(moved(&before.Users, &after.Users, people, false), stayed(&before.Users, &after.Users, people, slices.Collect(after.Users.Inhabited))...)
		devices = append(moved(&before.Devices, &after.Devices, things, false), stayed(&before.Devices, &after.Devices, things, slices.Collect(after.Devices.Inhabited))...)
	}
	p.everything = before.DirectFirst != after.DirectFirst || !p.rights.alike
	p.look(users, devices)
	return users, devices
}

// around lists the classes of devices that lines of some users cover, and of users whom lines on some devices concern, where the lines are the same before
// and after.
func (p *comparison) around(users []userJoint, devices []deviceJoint) (covered, holders []int32) {
	what, who := decision.NewClassSet(p.after.Devices.Classes.Size), decision.NewClassSet(p.after.Users.Classes.Size)
	for i := range users {
		for _, class := range []*decision.UserClass{users[i].before, users[i].after} {
			if class == nil {
				continue
			}
			for _, h := range class.Held {
				for _, r := range p.after.BySubject[h.Subject] {
					what.Add(p.after.Covered(r.Target))
				}
			}
		}
	}
	on := map[decision.Target]bool{}
	for i := range devices {
		for _, class := range []*decision.DeviceClass{devices[i].before, devices[i].after} {
			if class == nil {
				continue
			}
			for _, list := range [][]decision.Target{class.Facts.Targets, class.Facts.Points} {
				for _, t := range list {
					on[t] = true
				}
			}
		}
	}
	if len(on) > 0 {
		for i := range p.after.Lines {
			if l := &p.after.Lines[i]; slices.ContainsFunc(l.On, func(t decision.Target) bool { return on[t] }) {
				for _, s := range l.To {
					who.Add(p.after.Holders(s))
				}
			}
		}
	}
	return what.List, who.List
}

// joint is those who share a class before and a class after; one is nil where they are not there.
type joint[ID ~string, C any] struct {
	before, after         *C
	from, to              int32 // the numbers of the classes
	ids                   container.Roll[ID]
	moved                 bool // the class is another one
	nearBefore, nearAfter bool // a line of the one policy concerns them that is not in the other
	concerned             bool // somebody gains or loses something on them
	spared                int  // for how many users they are in another part than their block, where that is concerned
}

type (
	userJoint   = joint[policy.UserID, decision.UserClass]
	deviceJoint = joint[policy.DeviceID, decision.DeviceClass]
)

// meet tells whether a line may concern both that is in one of the policies alone.
func meet(u *userJoint, d *deviceJoint) bool {
	return u.nearBefore && d.nearBefore || u.nearAfter && d.nearAfter
}

// moved finds those of some who share both classes, where these are others; with same, all of them.
func moved[ID ~string, C any](before, after *container.Crowd[ID, C], some []ID, same bool) []joint[ID, C] {
	var out []joint[ID, C]
	lists := map[[2]int32][]ID{}
	for _, id := range some {
		key := [2]int32{-1, -1}
		if s := before.Where.Find(string(id)); s != nil {
			key[0] = s.Class
		}
		if s := after.Where.Find(string(id)); s != nil {
			key[1] = s.Class
		}
		if key[0] != key[1] || same {
			lists[key] = append(lists[key], id)
		}
	}
	for key, ids := range lists {
		slices.Sort(ids)
		j := joint[ID, C]{from: key[0], to: key[1], ids: container.RollOf(ids), moved: true}
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

// stayed finds those who are in classes that were there before, but for some who may not have been in them.
func stayed[ID ~string, C any](before, after *container.Crowd[ID, C], some []ID, classes []int32) []joint[ID, C] {
	joined := map[int32]bool{}
	for _, id := range some {
		if s := after.Where.Find(string(id)); s != nil {
			joined[s.Class] = true
		}
	}
	var out []joint[ID, C]
	for _, n := range classes {
		if n >= int32(before.Classes.Size) {
			continue
		}
		ids := *after.Members.At(n)
		if joined[n] {
			ids = ids.Except(some, func(id ID) bool {
				s := before.Where.Find(string(id))
				return s != nil && s.Class == n
			})
		}
		out = append(out, joint[ID, C]{before: before.Classes.At(n), after: after.Classes.At(n), from: n, to: n, ids: ids})
	}
	return out
}

// everybody lists all who are there before or after.
func everybody[ID ~string, C any](before, after *container.Crowd[ID, C]) (out []ID) {
	for n := range before.Inhabited {
		for id := range before.Members.At(n).All {
			out = append(out, id)
		}
	}
	for n := range after.Inhabited {
		for id := range after.Members.At(n).All {
			if before.Where.Find(string(id)) == nil {
				out = append(out, id)
			}
		}
	}
	return out
}

type comparison struct {
	before, after side
	in            Circumstances
	at            decision.Moment
	rights        rightUnion
	everything    bool
	few           bool            // the change touches single users and devices alone:
	touched       []policy.UserID // these,
	things        []policy.DeviceID
	most          int
	out           Differences
	control       []Difference // the first that concern control, and
	others        []Difference // the first of the others

	sameBefore []int32 // by the number of a line of after: that of the line of before that means the same; -1: there is none
	sameAfter  []int32 // the other way round
	differs    decision.RightSet
	key        []byte
	pairs      *memo[*outcome] // by what bears on a pair before and after
	known      *memo[shift]    // by what bears on one right of it
}

// side is one of the policies.
type side struct {
	Survey
	changed []bool // by the number of a line: the other policy has none that means the same
	decision.Kin
	room    []decision.Part
	periods *numbers
}

func sideOf(c *decision.Compiled) side {
	return side{Survey: Of(c), periods: &numbers{by: map[string]int64{}}}
}

// newComparison compares two policies, of which the earlier may be missing.
func newComparison(before, after *decision.Compiled, in Circumstances) *comparison {
	p := &comparison{after: sideOf(after), in: in, at: decision.MomentOf(in.At), pairs: newMemo[*outcome](), known: newMemo[shift]()}
	if before != nil {
		p.before, p.rights = sideOf(before), union(before.Rights, after.Rights)
		p.differs = make(decision.RightSet, p.rights.words)
	}
	return p
}

// sameLines is [comparison.findLines] where both policies have the same.
func (p *comparison) sameLines() {
	p.before.changed, p.after.changed = make([]bool, len(p.before.Lines)), make([]bool, len(p.after.Lines))
	p.sameBefore = make([]int32, len(p.after.Lines))
	for i := range p.sameBefore {
		p.sameBefore[i] = int32(i)
	}
	p.sameAfter = p.sameBefore
	p.before.Kin, p.after.Kin = p.before.Compiled.Kin(), p.after.Compiled.Kin()
}

// findLines finds which lines of both policies mean the same.
func (p *comparison) findLines() {
	sites := p.before.Policy().Table(policy.Sites).Same(p.after.Policy().Table(policy.Sites))
	number := map[lineKey]int32{}
	for i := range p.before.Lines {
		l := &p.before.Lines[i]
		number[lineKey{l.Grant.ID, l.Number}] = int32(i)
	}
	p.before.changed, p.after.changed = make([]bool, len(p.before.Lines)), make([]bool, len(p.after.Lines))
	p.sameBefore, p.sameAfter = make([]int32, len(p.after.Lines)), make([]int32, len(p.before.Lines))
	for i := range p.sameAfter {
		p.sameAfter[i], p.before.changed[i] = -1, true
	}
	old, new := make(decision.RightSet, p.rights.words), make(decision.RightSet, p.rights.words)
	for i := range p.after.Lines {
		p.sameBefore[i], p.after.changed[i] = -1, true
		l := &p.after.Lines[i]
		n, there := number[lineKey{l.Grant.ID, l.Number}]
		if !there || l.Ifs != nil && len(l.Ifs.Places) > 0 && !sites {
			continue
		}
		had := &p.before.Lines[n]
		if had.Grant == l.Grant || sameLine(had, l) {
			if slices.Equal(p.rights.of(p.rights.old, had.Rights, old), p.rights.of(p.rights.new, l.Rights, new)) && slices.EqualFunc(had.When, l.When, p.sameSchedule) {
				p.sameBefore[i], p.sameAfter[n] = n, int32(i)
				p.after.changed[i], p.before.changed[n] = false, false
			}
		}
	}
	for _, s := range []*side{&p.before, &p.after} {
		s.Kin = s.Compiled.Kin()
	}
}

type lineKey struct {
	grant  policy.GrantID
	number int
}

// sameLine tells whether two lines of a grant that was changed are given to the same and say the same; what they give is compared elsewhere.
func sameLine(a, b *decision.Line) bool {
	x, y := &a.Grant.Lines[a.Number], &b.Grant.Lines[b.Number]
	return a.Deny == b.Deny && a.Valid == b.Valid && reflect.DeepEqual(a.Grant.To, b.Grant.To) && x.Depth == y.Depth && reflect.DeepEqual(x.On, y.On) && reflect.DeepEqual(x.If, y.If)
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
func (p *comparison) look(users []userJoint, devices []deviceJoint) {
	old, new := p.before.namesOf(), p.after.namesOf()
	old.settled, new.settled = p.before.settled(p.before.changed), p.after.settled(p.after.changed)
	before, after := p.before.concern(p.before.changed), p.after.concern(p.after.changed)
	for i := range users {
		u := &users[i]
		u.nearBefore, u.nearAfter = u.before != nil && before.user(u.before), u.after != nil && after.user(u.after)
		u.moved = u.before == nil || u.after == nil || !old.sameUser(u.before, &new, u.after)
	}
	for i := range devices {
		d := &devices[i]
		d.nearBefore, d.nearAfter = d.before != nil && before.device(d.before), d.after != nil && after.device(d.after)
		d.moved = d.before == nil || d.after == nil || !old.sameDevice(d.before, &new, d.after)
	}
}

// names are the keys of subjects and targets by their numbers, by which two policies are compared.
type names struct {
	subjects []decision.SubjectKey
	targets  []decision.TargetKey
	settled  concern // what lines concern that are in both policies, or expectations
}

func (c Survey) namesOf() names {
	out := names{subjects: make([]decision.SubjectKey, len(c.BySubject)), targets: make([]decision.TargetKey, len(c.ByTarget))}
	for k, s := range c.Subjects {
		out.subjects[s] = k
	}
	for k, t := range c.Targets {
		out.targets[t] = k
	}
	return out
}

// sameUser tells whether two classes of users, one of each policy, are alike but for the lines of grants that are others.
func (n *names) sameUser(a *decision.UserClass, o *names, b *decision.UserClass) bool {
	if a.Bar != b.Bar || a.Valid != b.Valid {
		return false
	}
	left := 0
	for _, h := range b.Held {
		left += decision.Bit(o.settled.subjects[h.Subject])
	}
	for _, h := range a.Held {
		if !n.settled.subjects[h.Subject] {
			continue
		}
		if left--; !slices.ContainsFunc(b.Held, func(x decision.Held) bool {
			return o.subjects[x.Subject] == n.subjects[h.Subject] && x.Period == h.Period
		}) {
			return false
		}
	}
	return left == 0
}

// sameDevice tells whether two classes of devices, one of each policy, are alike but for the lines of grants that are others.
func (n *names) sameDevice(a *decision.DeviceClass, o *names, b *decision.DeviceClass) bool {
	x, y := a.Facts, b.Facts
	if x.State != y.State || x.Kind != y.Kind || a.Lockout != b.Lockout || x.Zone.String() != y.Zone.String() {
		return false
	}
	left := 0
	for _, t := range y.Targets {
		left += decision.Bit(o.settled.targets[t])
	}
	for _, t := range x.Targets {
		if !n.settled.targets[t] {
			continue
		}
		if left--; !slices.ContainsFunc(y.Targets, func(u decision.Target) bool { return o.targets[u] == n.targets[t] }) {
			return false
		}
	}
	if left != 0 {
		return false
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

// settled is what lines concern that are not among some, and what expectations are about.
func (c Survey) settled(but []bool) concern {
	others := make([]bool, len(but))
	for i := range but {
		others[i] = !but[i]
	}
	out := c.concern(others)
	for i := range c.Expectations {
		e := &c.Expectations[i]
		for _, s := range e.Who {
			out.subjects[s] = true
		}
		for _, t := range e.On {
			out.targets[t] = true
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

func (p *comparison) run(users []userJoint, devices []deviceJoint) {
	moved := p.everything || slices.ContainsFunc(users, func(u userJoint) bool { return u.moved && u.ids.Size > 0 })
	movedOn := p.everything || slices.ContainsFunc(devices, func(d deviceJoint) bool { return d.moved && d.ids.Size > 0 })
	users = slices.DeleteFunc(users, func(u userJoint) bool {
		return u.ids.Size == 0 || !movedOn && !u.moved && !u.nearBefore && !u.nearAfter
	})
	devices = slices.DeleteFunc(devices, func(d deviceJoint) bool {
		return d.ids.Size == 0 || !moved && !d.moved && !d.nearBefore && !d.nearAfter
	})
	shares := 1
	if len(users)*len(devices) > manyPairs {
		shares = min(runtime.GOMAXPROCS(0), len(users))
	}
	found := make([]*comparison, shares)
	faces := make([]*facing, shares)
	var all sync.WaitGroup
	for n := range shares {
		all.Go(func() {
			q := newComparison(p.before.Compiled, p.after.Compiled, p.in) // with rooms of its own
			q.everything, q.most, q.sameBefore, q.sameAfter = p.everything, p.most, p.sameBefore, p.sameAfter
			q.before, q.after, q.pairs, q.known = p.before, p.after, p.pairs, p.known
			found[n], faces[n] = q, newFacing(p.before.Survey, p.after.Survey, slices.Clone(devices))
			q.share(users[n*len(users)/shares:(n+1)*len(users)/shares], faces[n])
		})
	}
	all.Wait()
	for _, q := range found {
		p.take(q)
	}
	for i := range devices {
		if slices.ContainsFunc(faces, func(f *facing) bool { return f.concerned(i) }) {
			p.out.Devices += devices[i].ids.Size
		}
	}
}

// manyPairs is of how many pairs of classes a comparison is made by all processors side by side.
const manyPairs = 1 << 16

// share compares what some of the users may do.
func (p *comparison) share(users []userJoint, devices *facing) {
	for i := range users {
		u := &users[i]
		any, before := false, p.out.Gained.All()
		for part := range devices.of(u) {
			if d := part.example; p.everything || u.moved || d.moved || meet(u, d) {
				any = p.pair(u, part) || any
			}
		}
		if any {
			p.out.Users += u.ids.Size
		}
		if p.out.Gained.All() > before {
			p.out.Gainers += u.ids.Size
		}
	}
}

// take adds what was found of other users.
func (p *comparison) take(q *comparison) {
	o := &q.out
	for d := range p.out.Gained {
		p.out.Gained[d] += o.Gained[d]
		p.out.Lost[d] += o.Lost[d]
	}
	p.out.Control += o.Control
	p.out.Gainers += o.Gainers
	p.out.Users += o.Users
	p.out.Pairs += o.Pairs
	p.control, p.others = append(p.control, q.control...), append(p.others, q.others...)
}

// pair compares what users of one class may do on devices that are alike to them, and on their points.
func (p *comparison) pair(u *userJoint, part part) bool {
	d := part.example
	whole := p.outcome(u, d, [2]decision.Target{})
	some := whole != nil
	if some {
		part.concern()
		p.tell(u.ids, part.size(), part.ids, "", whole)
	}
	for _, point := range pointsOf(d) { // a device of which a line names a point is alike to no other
		targets := [2]decision.Target{pointTarget(d.before, point), pointTarget(d.after, point)}
		if targets[0] == 0 && targets[1] == 0 {
			continue
		}
		if own := p.outcome(u, d, targets); own != nil && !own.equal(whole) {
			p.tell(u.ids, d.ids.Size, part.ids, point, own)
			some, d.concerned = true, true
		}
	}
	return some
}

// pointsOf lists the points of the one device of a class that any grant names.
func pointsOf(d *deviceJoint) []policy.PointID {
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

// tell counts what users of a class gain and lose on some devices, and keeps the first few of each such pair.
func (p *comparison) tell(users container.Roll[policy.UserID], size int, devices func(most int) []policy.DeviceID, point policy.PointID, o *outcome) {
	pairs := users.Size * size
	p.out.Pairs += pairs
	p.out.Gained.add(o.gained, pairs)
	p.out.Lost.add(o.lost, pairs)
	p.out.Control += pairs * o.controls
	into := &p.others
	if o.control {
		into = &p.control
	}
	if len(*into) > 4*p.most {
		return
	}
	left := p.most
	ids := devices(p.most)
	for _, u := range users.From("", p.most) {
		for _, d := range ids {
			if left == 0 {
				return
			}
			left--
			*into = append(*into, Difference{u, d, point, o.gained, o.lost})
		}
	}
}

// controls tells whether a right is control or implies it, in either policy.
func (p *comparison) controls(id policy.RightID) bool {
	for _, c := range []*side{&p.before, &p.after} {
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
