package decision

import (
	"cmp"
	"hash/maphash"
	"iter"
	"slices"

	"sentier/internal/container"
	"sentier/internal/policy"
)

// groups are the user groups, without their members.
type groups map[policy.UserGroupID]*group

type group struct {
	enabled    bool
	includedBy []policy.UserGroupID
}

func compileGroups(p *policy.Policy) groups {
	out := groups{}
	for g := range policy.Each[*policy.UserGroup](p) {
		out[g.ID] = &group{enabled: g.Enabled != policy.Off}
	}
	for g := range policy.Each[*policy.UserGroup](p) {
		for _, in := range g.Includes {
			out[in].includedBy = append(out[in].includedBy, g.ID)
		}
	}
	return out
}

// UserClass is what decisions know of users. It fills two lines of the processor's cache, of which
// most decisions need no more.
type UserClass struct {
	marks marks // of the targets of all lines of what is held
	Valid Period
	Held  []Held
	facts *userFacts
	Self  Subject // 0: no grant names the user
	Bar   Reason  // what keeps the user from everything; 0: nothing but valid
	_     [11]byte
}

// userFacts tell one class of users from another.
type userFacts struct {
	status policy.Status
	valid  Period
	named  policy.UserID // empty: no grant names the user
	direct []membership  // every group that lists the user

	// What the layers before make of the facts.
	groups []Subject // of each of direct, enabled or not; 0: no grant names it
}

// Held is a subject that a user is during a period.
type Held struct {
	Subject Subject
	fold    fold // of the subject's marks
	Period  Period
}

type membership struct {
	group  policy.UserGroupID
	period Period
}

func (c *Compiled) userFacts(u *policy.User, direct []membership) userFacts {
	f := userFacts{status: u.Status, valid: PeriodOf(u.Valid), direct: direct}
	if c.Subjects[SubjectKey{user: u.ID}] != 0 {
		f.named = u.ID
	}
	slices.SortFunc(f.direct, func(a, b membership) int {
		return cmp.Or(cmp.Compare(a.group, b.group), cmp.Compare(a.period.From, b.period.From), cmp.Compare(a.period.Until, b.period.Until))
	})
	return f
}

func (f *userFacts) key(k ClassKey) ClassKey {
	k.Text(string(f.status))
	k.Period(f.valid)
	k.Text(string(f.named))
	for _, m := range f.direct {
		k.Text(string(m.group))
		k.Period(m.period)
	}
	return k
}

// userClass finds what the facts make a user: "Who: the subject set".
func (c *Compiled) userClass(f userFacts) UserClass {
	out := UserClass{facts: &f, Valid: f.valid}
	switch f.status {
	case policy.Suspended:
		out.Bar = UserSuspended
	case policy.Invited:
		out.Bar = UserInvited
	}
	if f.named != "" {
		out.Self = c.Subjects[SubjectKey{user: f.named}]
	}
	hold := func(s Subject, p Period) {
		covered := slices.ContainsFunc(out.Held, func(o Held) bool { return o.Subject == s && o.Period.And(p) == p })
		if s != 0 && !covered {
			out.Held = append(out.Held, Held{s, c.rules.marks[s].fold(), p})
		}
	}
	hold(c.Subjects[SubjectKey{}], Always)
	hold(out.Self, Always)
	out.facts.groups = make([]Subject, len(f.direct))
	for i, m := range f.direct {
		out.facts.groups[i] = c.Subjects[SubjectKey{Group: m.group}]
		for _, id := range c.PassesTo(m.group) {
			hold(c.Subjects[SubjectKey{Group: id}], m.period)
		}
	}
	out.Held = slices.Clip(out.Held)
	out.marks.add(everywhere)
	if out.Bar != 0 || f.valid != Always { // its answers have other reasons than its lines
		out.marks = allMarks
	}
	for _, h := range out.Held {
		for i, word := range c.rules.marks[h.Subject] {
			out.marks[i] |= word
		}
	}
	return out
}

// PassesTo lists the groups that the members of a group are in: the group and what includes it,
// as far as all on the way are enabled.
func (c *Compiled) PassesTo(id policy.UserGroupID) []policy.UserGroupID {
	if g := c.groups[id]; g.enabled && len(g.includedBy) == 0 {
		return []policy.UserGroupID{id}
	}
	var out []policy.UserGroupID
	todo := []policy.UserGroupID{id}
	for len(todo) > 0 {
		id := todo[0]
		todo = todo[1:]
		if slices.Contains(out, id) || !c.groups[id].enabled {
			continue
		}
		out = append(out, id)
		todo = append(todo, c.groups[id].includedBy...)
	}
	return out
}

// gatherUsers compiles all users.
func (c *Compiled) gatherUsers() {
	table := c.policy.Table(policy.Users)
	into := container.Gather(&c.Users, table.Len())
	direct := c.memberships(table)
	var key ClassKey
	i := 0
	for u := range policy.Each[*policy.User](c.policy) {
		facts := c.userFacts(u, direct[i])
		key = facts.key(key[:0])
		into.Add(u.ID, key, func() UserClass {
			facts.direct = slices.Clone(facts.direct)
			return c.userClass(facts)
		})
		i++
	}
	into.End()
}

// memberships lists the groups of every user, in the order of the users.
func (c *Compiled) memberships(users policy.Table) [][]membership {
	groups := policy.Each[*policy.UserGroup](c.policy)
	return perEntry(keysOf[policy.UserID](users), groups, func(g *policy.UserGroup) []policy.Member { return g.Members },
		func(m policy.Member) policy.UserID { return m.User },
		func(g *policy.UserGroup, m policy.Member) membership { return membership{g.ID, PeriodOf(m.Span())} })
}

// keysOf lists the ids of a table, in order.
func keysOf[ID ~string](t policy.Table) []ID {
	out := make([]ID, 0, t.Len())
	for r := range t.All() {
		out = append(out, ID(r.Key()))
	}
	return out
}

// perEntry gathers, for each of some ids, what the lists of many records that name it make of it.
func perEntry[ID ~string, R, E, V any](ids []ID, records iter.Seq[R], list func(R) []E, id func(E) ID, value func(R, E) V) [][]V {
	find := finderOf(ids)
	counts := make([]int32, len(ids))
	var places []int32
	for r := range records {
		for _, e := range list(r) {
			at := find(id(e))
			places = append(places, at)
			counts[at]++
		}
	}
	all := make([]V, len(places))
	out := make([][]V, len(ids))
	for i, n := range counts {
		out[i], all = all[:0:n], all[n:]
	}
	for r := range records {
		for _, e := range list(r) {
			n := places[0]
			places = places[1:]
			out[n] = append(out[n], value(r, e))
		}
	}
	return out
}

// finderOf gives a function that finds the places of ids that are there. Their hashes alone tell them apart, so that millions are found
// without a look at the ids themselves, which lie far apart in memory; where two ids have one hash, others are tried.
func finderOf[ID ~string](ids []ID) func(ID) int32 {
	size := 16
	for size < 2*len(ids) {
		size *= 2
	}
	type slot struct {
		hash  uint64
		place int32
	}
	mask := uint64(size - 1)
again:
	seed := maphash.MakeSeed()
	slots := make([]slot, size)
	for i, id := range ids {
		h := maphash.String(seed, string(id)) | 1 // 0 is a free slot
		n := h >> 8 & mask
		for ; slots[n].hash != 0; n = (n + 1) & mask {
			if slots[n].hash == h {
				goto again
			}
		}
		slots[n] = slot{h, int32(i)}
	}
	return func(id ID) int32 {
		h := maphash.String(seed, string(id)) | 1
		n := h >> 8 & mask
		for slots[n].hash != h {
			n = (n + 1) & mask
		}
		return slots[n].place
	}
}

// moveUsers compiles the users that a change touches.
func (c *Compiled) moveUsers(changed map[policy.UserID]*joins) {
	if len(changed) == 0 {
		return
	}
	moving := container.Move(&c.Users)
	for id, j := range changed {
		u, ok := policy.Find[*policy.User](c.policy, string(id))
		if !ok {
			moving.Remove(id)
			continue
		}
		var direct []membership
		if class := c.Users.Find(id); class != nil {
			direct = slices.DeleteFunc(slices.Clone(class.facts.direct), func(m membership) bool { return slices.Contains(j.out, m) })
		}
		facts := c.userFacts(u, append(direct, j.in...))
		moving.Put(id, facts.key(nil), func() UserClass { return c.userClass(facts) })
	}
	moving.End()
}

// MemberOf is the class of somebody who is in a group and in no other; nil where there is no such group.
func (c *Compiled) MemberOf(group policy.UserGroupID) *UserClass {
	if c.groups[group] == nil {
		return nil
	}
	class := c.userClass(userFacts{status: policy.Active, valid: Always, direct: []membership{{group, Always}}})
	return &class
}

// Without is the class of users of a class once they are listed in a group no more.
func (c *Compiled) Without(class *UserClass, group policy.UserGroupID) *UserClass {
	facts := *class.facts
	facts.direct = slices.DeleteFunc(slices.Clone(facts.direct), func(m membership) bool { return m.group == group })
	out := c.userClass(facts)
	return &out
}

// Direct lists the groups that list users of a class, each once, whenever that is.
func (u *UserClass) Direct() []policy.UserGroupID {
	var out []policy.UserGroupID
	for _, m := range u.facts.direct {
		if !slices.Contains(out, m.group) {
			out = append(out, m.group)
		}
	}
	return out
}

// Named is the user that the class is of alone, as a grant or an expectation names them; empty: none does.
func (u *UserClass) Named() policy.UserID { return u.facts.named }
