package survey

import (
	"cmp"
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
	User                policy.UserID
	Device              policy.DeviceID
	Point               policy.PointID
	Gained, Lost        []Change
	Loosened, Tightened []LimitChange

	of *outcome // until what is gained and lost is told of those that are shown
}

// Change is a right that only one of two policies allows at some instant in some circumstances: First is the first such instant, in the circumstances that are Given.
type Change struct {
	Possibility
	Before, After Degree // what is possible in each of the policies
}

// LimitChange is a right that both of two policies allow, with other limits: First is the first instant at which it is so, in the circumstances that are Given.
type LimitChange struct {
	Possibility
	Before, After map[string]policy.Limit // at that instant; nil: none
}

// Tally counts rights of users on devices by degree.
type Tally [Now + 1]int

// All counts them in all degrees.
func (t *Tally) All() int { return t[Now] + t[Later] + t[If] }

// addTo counts what is told of rights, so many times.
func addTo[T ofRight](t *Tally, list []T, times int) {
	for _, x := range list {
		t[x.told().Degree] += times
	}
}

// Differences are what two policies allow differently, at an instant, within 400 days of it or in other circumstances: the impact of the
// changes between them. A right counts once among what is gained, in the first degree in which the one policy allows at some instant and
// in some circumstances what the other does not; likewise among what is lost. Nothing is gained or lost only where both allow the same at
// every instant and in all circumstances. Limits count where both allow. A point counts where it differs from its device.
type Differences struct {
	Gained, Lost Tally
	Loosened     Tally        // rights whose limits are looser, in the first degree in which they are
	Tightened    Tally        // likewise closer: a right may be among both, by other limits or at other instants
	Control      int          // of what is gained, rights that control
	ControlLimit int          // of what is loosened, rights that control
	Gainers      int          // users who gain anything
	Users        int          // users for whom anything changes
	Devices      int          // devices on which anybody does
	Pairs        int          // of a user and a device, or a point, of which the Items are the first
	Items        []Difference // what concerns control first
	Mandates     []MandateDifference
}

// Compare finds who gains and loses what between any two policies, by “What an impact tells” of the semantics. done is what leads from the one to the other, as
// [policy.Policy.Compare] tells it: with it, only what that can touch is looked at; without it (nil), everything. most bounds the items, not the counts.
func Compare(before, after *decision.Compiled, done []policy.RecordChange, in Circumstances, most int) Differences {
	if in.Degrees == 0 {
		in.Degrees = AllDegrees
	}
	after = related(before, after, done)
	p := newComparison(before, after, in)
	p.most = most
	users, devices := p.joints(done)
	devices = slices.DeleteFunc(devices, func(j deviceJoint) bool { return !in.shows(j.before) && !in.shows(j.after) })
	p.run(users, devices)
	p.sort()
	p.out.Mandates = compareMandates(before, after, done, p.at)
	return p.out
}

// related is the later of two policies with classes that go on from those of the earlier, which what is done is looked up by: policies that were compiled apart
// number theirs each by itself.
func related(before, after *decision.Compiled, done []policy.RecordChange) *decision.Compiled {
	if done == nil || after.Follows(before) {
		return after
	}
	return before.Next(after.Policy(), done)
}

// Gain is what some users gain on some devices, or on a point of the one device.
type Gain struct {
	Users   container.Roll[policy.UserID]
	Devices func() []policy.DeviceID
	Pairs   int            // of them
	Point   policy.PointID // empty: of the devices themselves
	Rights  []Possibility  // none: nothing, on a point of a device on which they gain something
	Looser  []LimitChange  // limits that are loosened
}

// Gains visits all that is gained between two policies, as [Compare] finds it, each user and device once; points that a grant names come by
// themselves, whether they differ from their device or not. It gives the mandates that are gained, and is told of one gain at a time.
func Gains(before, after *decision.Compiled, done []policy.RecordChange, in Circumstances, visit func(Gain)) []MandateDifference {
	in.Degrees = AllDegrees
	after = related(before, after, done)
	p := newComparison(before, after, in)
	var one sync.Mutex
	p.visit = func(g Gain) {
		one.Lock()
		defer one.Unlock()
		visit(g)
	}
	users, devices := p.joints(done)
	p.run(users, devices)
	return slices.DeleteFunc(compareMandates(before, after, done, p.at), func(m MandateDifference) bool { return !m.Gained })
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
	visit         func(gain Gain) // nil: nobody is told of gains one by one
	control       []Difference    // the first that concern control, and
	others        []Difference    // the first of the others

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

	open   [][]uint64  // by what lines have in common that hold alike: the cells of the week in which they are open; nil: they count each for itself
	union  [2][]uint64 // of the parts at hand, those apart that the other policy does not have
	united [2]bool
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
		s.findOpen()
	}
}

type lineKey struct {
	grant  policy.GrantID
	number int
}

// sameLine tells whether two lines of a grant that was changed are given to the same and say the same; what they give is compared elsewhere.
func sameLine(a, b *decision.Line) bool {
	x, y := &a.Grant.Lines[a.Number], &b.Grant.Lines[b.Number]
	return a.Deny == b.Deny && a.Valid == b.Valid && reflect.DeepEqual(a.Grant.To, b.Grant.To) && x.Depth == y.Depth && reflect.DeepEqual(x.On, y.On) && reflect.DeepEqual(x.If, y.If) && reflect.DeepEqual(x.Limits, y.Limits)
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
			q.everything, q.most, q.visit, q.sameBefore, q.sameAfter = p.everything, p.most, p.visit, p.sameBefore, p.sameAfter
			q.before, q.after, q.pairs, q.known = p.before, p.after, p.pairs, p.known
			found[n], faces[n] = q, newFacing(p.before.Survey, p.after.Survey, slices.Clone(devices))
			q.share(users, n, shares, faces[n])
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

// share compares what every so manieth of the users may do, from one on: those with much to compare stand together.
func (p *comparison) share(users []userJoint, from, step int, devices *facing) {
	for i := from; i < len(users); i += step {
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
		p.out.Loosened[d] += o.Loosened[d]
		p.out.Tightened[d] += o.Tightened[d]
	}
	p.out.Control += o.Control
	p.out.ControlLimit += o.ControlLimit
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
	for _, point := range pointsOf(d) {
		x, other := pointOf(d, point)
		targets := [2]decision.Target{pointTarget(x.before, point), pointTarget(x.after, point)}
		if targets[0] == 0 && targets[1] == 0 && !other {
			continue
		}
		own := p.outcome(u, &x, targets)
		if (own == nil || own.equal(whole)) && (p.visit == nil || own == nil && whole == nil) {
			continue
		}
		some = true
		if other { // the devices of the part have it in common
			part.concern()
			p.tell(u.ids, part.size(), part.ids, point, own)
		} else { // a device of which a line names a point is alike to no other
			d.concerned = true
			p.tell(u.ids, d.ids.Size, part.ids, point, own)
		}
	}
	return some
}

// pointsOf lists the points of the devices of a class that any grant names, and those that only one of the policies has.
func pointsOf(d *deviceJoint) []policy.PointID {
	out := slices.Concat(d.points.added, d.points.removed)
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
	if p.visit != nil {
		g := Gain{Users: users, Devices: func() []policy.DeviceID { return devices(size) }, Pairs: users.Size * size, Point: point}
		if o != nil {
			g.Rights, g.Looser = o.gained, o.loosened
		}
		p.visit(g)
		return
	}
	pairs := users.Size * size
	p.out.Pairs += pairs
	addTo(&p.out.Gained, o.gained, pairs)
	addTo(&p.out.Lost, o.lost, pairs)
	addTo(&p.out.Loosened, o.loosened, pairs)
	addTo(&p.out.Tightened, o.tightened, pairs)
	p.out.Control += pairs * o.controls
	p.out.ControlLimit += pairs * o.loosens
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
			*into = append(*into, Difference{User: u, Device: d, Point: point, Loosened: o.loosened, Tightened: o.tightened, of: o})
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
	known := map[*outcome][2][]Change{} // the same of all pairs with the outcome
	for i := range p.out.Items {
		item := &p.out.Items[i]
		lists, ok := known[item.of]
		if !ok {
			lists = [2][]Change{p.changes(item, item.of.gained), p.changes(item, item.of.lost)}
			known[item.of] = lists
		}
		item.Gained, item.Lost, item.of = lists[0], lists[1], nil
	}
}

// changes tells of rights that somebody gains, or loses, what is possible before and after.
func (p *comparison) changes(of *Difference, list []Possibility) (out []Change) {
	for _, x := range list {
		q := decision.Question{User: of.User, Device: of.Device, Point: of.Point, Right: x.Right, At: p.in.At, Context: p.in.Context}
		out = append(out, Change{x, p.before.Possible(q).Degree, p.after.Possible(q).Degree})
	}
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
