package decision

import (
	"cmp"
	"slices"

	"sentier/internal/policy"
)

// Difference is what one user gains and loses on one device.
type Difference struct {
	User         policy.UserID
	Device       policy.DeviceID
	Gained, Lost []policy.RightID
}

// Differences are what two policies allow differently at one instant: the impact of the changes between them.
// Points that are granted by themselves are not counted.
type Differences struct {
	Gained, Lost int // rights of a user on a device
	Users        int // users who gain or lose anything
	Devices      int // devices on which anybody does
	Items        []Difference
}

// Compare finds who gains and loses what between two policies. done is what was done to records where after
// came from before by [Compiled.Next], and nil where the two may be any; with it, only what a change can touch
// is looked at. most bounds the items, not the counts.
func Compare(before, after *Compiled, done []policy.RecordChange, in Circumstances, most int) Differences {
	in.AnyTime = false
	p := &comparison{before: before, after: after, most: most, rights: union(before.rights, after.rights)}
	p.old, p.new = newSheet(before, in), newSheet(after, in)
	p.allOld, _ = before.wanted(in.Right)
	p.allNew, _ = after.wanted(in.Right)
	var t *touched
	if done != nil {
		t = before.touched(done)
		if t.rights || t.clocks || t.groups || t.places || t.everyDevice || t.roles || t.wholesale(after.policy) {
			t = nil
		}
	}
	var users []joint[policy.UserID, userClass]
	var devices []joint[policy.DeviceID, deviceClass]
	if t == nil {
		users, devices = pair(&before.users, &after.users, nil), pair(&before.devices, &after.devices, nil)
	} else {
		users, devices = pair(&before.users, &after.users, mapKeys(t.users)), pair(&before.devices, &after.devices, mapKeys(t.devices))
		p.reach(t, users, devices, done)
	}
	p.everything = t == nil
	p.run(users, devices)
	slices.SortFunc(p.out.Items, func(a, b Difference) int { return cmp.Or(cmp.Compare(a.User, b.User), cmp.Compare(a.Device, b.Device)) })
	p.out.Items = p.out.Items[:min(most, len(p.out.Items))]
	return p.out
}

// joint is those who share a class before and a class after; one is nil where they are not there.
type joint[ID ~string, C any] struct {
	before, after *C
	ids           roll[ID]
	moved         bool // the class is another one
	near          bool // a changed grant may concern them
}

func mapKeys[K comparable, V any](m map[K]V) []K {
	out := make([]K, 0, len(m))
	for k := range m {
		out = append(out, k)
	}
	return out
}

// pair finds those who share both classes. moved are those whose class may be another one; nil: anybody's.
func pair[ID ~string, C any](before, after *crowd[ID, C], moved []ID) []joint[ID, C] {
	var out []joint[ID, C]
	lists := map[[2]int32][]ID{}
	put := func(id ID) {
		key := [2]int32{-1, -1}
		if s := before.where.find(string(id)); s != nil {
			key[0] = s.class
		}
		if s := after.where.find(string(id)); s != nil {
			key[1] = s.class
		}
		if key[0] != key[1] || moved == nil {
			lists[key] = append(lists[key], id)
		}
	}
	if moved == nil {
		everybody(before, func(id ID) { put(id) })
		everybody(after, func(id ID) {
			if before.where.find(string(id)) == nil {
				put(id)
			}
		})
	} else {
		for _, id := range moved {
			put(id)
		}
		for n := range after.inhabited {
			if ids := *after.members.at(n); n < int32(before.classes.size) {
				ids = ids.except(moved, func(id ID) bool {
					s := before.where.find(string(id))
					return s != nil && s.class == n
				})
				out = append(out, joint[ID, C]{before: before.classes.at(n), after: after.classes.at(n), ids: ids})
			}
		}
	}
	for key, ids := range lists {
		slices.Sort(ids)
		j := joint[ID, C]{ids: rollOf(ids), moved: true}
		if key[0] >= 0 {
			j.before = before.classes.at(key[0])
		}
		if key[1] >= 0 {
			j.after = after.classes.at(key[1])
		}
		out = append(out, j)
	}
	return out
}

// except gives a roll without those of a list that did not stay.
func (r roll[ID]) except(list []ID, stayed func(ID) bool) roll[ID] {
	for _, id := range list {
		if !stayed(id) {
			r = r.without(id)
		}
	}
	return r
}

func everybody[ID ~string, C any](c *crowd[ID, C], visit func(ID)) {
	for n := range c.inhabited {
		for _, part := range c.members.at(n).parts {
			for _, id := range part {
				visit(id)
			}
		}
	}
}

type comparison struct {
	before, after  *Compiled
	old, new       *sheet
	allOld, allNew rightSet
	rights         rightUnion
	everything     bool
	most           int
	out            Differences
}

// reach marks those whom the grants that changed may concern.
func (p *comparison) reach(t *touched, users []joint[policy.UserID, userClass], devices []joint[policy.DeviceID, deviceClass], done []policy.RecordChange) {
	for _, c := range []*Compiled{p.before, p.after} {
		subjects, targets := map[subject]bool{}, map[target]bool{}
		for _, change := range done {
			g, ok := change.Record().(*policy.Grant)
			if !ok {
				continue
			}
			for i := range c.lines {
				if c.lines[i].grant.ID == g.ID {
					for _, s := range c.lines[i].to {
						subjects[s] = true
					}
					for _, k := range c.lineTargetKeys(&c.lines[i]) {
						targets[k] = true
					}
				}
			}
		}
		for i := range users {
			class := users[i].after
			if c == p.before {
				class = users[i].before
			}
			users[i].near = users[i].near || class != nil && slices.ContainsFunc(class.held, func(h held) bool { return subjects[h.subject] })
		}
		for i := range devices {
			class := devices[i].after
			if c == p.before {
				class = devices[i].before
			}
			devices[i].near = devices[i].near || class != nil && slices.ContainsFunc(class.facts.targets, func(t target) bool { return targets[t] })
		}
	}
}

// lineTargetKeys lists the targets of a line.
func (c *Compiled) lineTargetKeys(l *line) []target {
	return c.rules.lineTargets(&l.grant.Lines[l.number])
}

func (p *comparison) run(users []joint[policy.UserID, userClass], devices []joint[policy.DeviceID, deviceClass]) {
	gained, lost := make(rightSet, p.rights.words), make(rightSet, p.rights.words)
	concerned := make([]bool, len(devices))
	for i := range users {
		u := &users[i]
		if u.ids.size == 0 {
			continue
		}
		p.old.begin(u.before)
		p.new.begin(u.after)
		any := false
		for k := range devices {
			d := &devices[k]
			if d.ids.size == 0 || !(p.everything || u.moved || d.moved || u.near && d.near) {
				continue
			}
			had := p.rights.of(p.rights.old, p.look(p.old, u.before, d.before, p.allOld), gained)
			has := p.rights.of(p.rights.new, p.look(p.new, u.after, d.after, p.allNew), lost)
			for w := range had {
				had[w], has[w] = has[w]&^had[w], had[w]&^has[w]
			}
			n, m := had.count(), has.count()
			if n+m == 0 {
				continue
			}
			any, concerned[k] = true, true
			p.out.Gained += n * u.ids.size * d.ids.size
			p.out.Lost += m * u.ids.size * d.ids.size
			p.list(u.ids, d.ids, had, has)
		}
		if any {
			p.out.Users += u.ids.size
		}
	}
	for k := range devices {
		if concerned[k] {
			p.out.Devices += devices[k].ids.size
		}
	}
}

func (p *comparison) look(s *sheet, who *userClass, what *deviceClass, wanted rightSet) rightSet {
	if who == nil || what == nil {
		return nil
	}
	possible := make(rightSet, len(wanted))
	s.c.possible(what, s.question.at, wanted, possible)
	given, _ := s.rights(what, possible)
	return given
}

// list keeps the first few of each pair of classes: more than are told are not gathered.
func (p *comparison) list(users roll[policy.UserID], devices roll[policy.DeviceID], gained, lost rightSet) {
	if len(p.out.Items) > 4*p.most {
		return
	}
	left := p.most
	for _, u := range users.from("", p.most) {
		for _, d := range devices.from("", p.most) {
			if left == 0 {
				return
			}
			left--
			p.out.Items = append(p.out.Items, Difference{u, d, p.rights.named(gained), p.rights.named(lost)})
		}
	}
}

// rightUnion numbers the rights of two policies alike.
type rightUnion struct {
	ids      []policy.RightID
	old, new []int // the union's number of each right
	words    int
}

func union(a, b *rights) rightUnion {
	var u rightUnion
	number := map[policy.RightID]int{}
	take := func(r *rights) []int {
		var out []int
		for i := range r.rightList {
			id := r.rightList[i].id
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
	return u
}

// of writes a set by the union's numbers.
func (u *rightUnion) of(numbers []int, set, into rightSet) rightSet {
	clear(into)
	if set != nil {
		for i, n := range numbers {
			if set.has(i) {
				into.add(n)
			}
		}
	}
	return into
}

func (u *rightUnion) named(set rightSet) []policy.RightID {
	var out []policy.RightID
	for i, id := range u.ids {
		if set.has(i) {
			out = append(out, id)
		}
	}
	return out
}
