package survey

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"unicode"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// people looks at memberships and accounts.
func (f *finder) people() {
	for u := range policy.Each[*policy.User](f.Policy()) {
		switch until := u.Valid.Until; {
		case !until.IsZero() && !until.After(f.at) && u.Status != policy.Suspended:
			f.add(Finding{Kind: PastEnd, Of: of(policy.Users, string(u.ID)), At: until})
		case f.soon(until):
			f.add(Finding{Kind: EndsSoon, Of: of(policy.Users, string(u.ID)), At: until})
		}
	}
	for g := range policy.Each[*policy.UserGroup](f.Policy()) {
		for _, m := range g.Members {
			about := append(of(policy.Users, string(m.User)), FindingOf{policy.UserGroups, string(g.ID)})
			switch {
			case !m.Until.IsZero() && !m.Until.After(f.at):
				f.add(Finding{Kind: PastEnd, Of: about, At: m.Until, Mends: []Mend{{"leave", about[1], []policy.Change{{
					Op: policy.Drop, Type: policy.UserGroups, ID: string(g.ID), List: "members", Beside: true,
					Entry: policy.Entry{Value: string(m.User), From: m.From, Until: m.Until},
				}}}}})
			case f.soon(m.Until):
				f.add(Finding{Kind: EndsSoon, Of: about, At: m.Until})
			}
		}
	}
	f.memberships()
}

// leave is the mend that takes somebody out of a group.
func leave(user policy.UserID, group policy.UserGroupID) Mend {
	return Mend{"leave", FindingOf{policy.UserGroups, string(group)}, []policy.Change{{
		Op: policy.Drop, Type: policy.UserGroups, ID: string(group), List: "members", Entry: policy.Entry{Value: string(user)},
	}}}
}

// bound are the groups by which more than rights on devices come: a mandate, how one signs in, what one may join.
func (f *finder) bound() map[policy.UserGroupID]bool {
	out := map[policy.UserGroupID]bool{}
	for m := range policy.Each[*policy.Mandate](f.Policy()) {
		for _, id := range m.To.Groups {
			out[id] = true
		}
	}
	for e := range policy.Each[*policy.Expectation](f.Policy()) {
		for _, id := range e.Who.Groups {
			out[id] = true
		}
	}
	for g := range policy.Each[*policy.UserGroup](f.Policy()) {
		if g.SignIn != nil {
			out[g.ID] = true
		}
		if g.Join != nil {
			for _, id := range g.Join.Groups {
				out[id] = true
			}
		}
	}
	return out
}

// smallest is how many members groups have at least that are held against each other.
const smallest = 3

// memberships looks at who is in several groups: for what one of them adds nothing, and for what is left of a move.
func (f *finder) memberships() {
	bound := f.bound()
	type pair struct{ a, b policy.UserGroupID }
	together := map[pair]int{}
	only := map[pair]policy.UserID{}
	sizes := map[policy.UserGroupID]int{}
	gives := map[policy.UserGroupID]bool{}
	for id := range f.groupIDs() {
		gives[id] = slices.ContainsFunc(f.PassesTo(id), func(g policy.UserGroupID) bool { return len(f.linesOf(g)) > 0 })
	}
	for n := range f.Users.Inhabited {
		class, members := f.Users.Classes.At(n), *f.Users.Members.At(n)
		groups := slices.DeleteFunc(class.Direct(), func(g policy.UserGroupID) bool { return !gives[g] })
		for i, a := range groups {
			sizes[a] += members.Size
			if len(groups) > 2 { // who is in many has several tasks
				continue
			}
			for _, b := range groups[i+1:] {
				p := pair{min(a, b), max(a, b)}
				if together[p] += members.Size; together[p] == 1 { // the first, and so far the only one
					only[p] = members.From("", 1)[0]
				}
			}
		}
		if len(groups)+len(class.Named()) > 1 && class.Bar == 0 {
			for _, g := range groups {
				if !slices.ContainsFunc(f.PassesTo(g), func(x policy.UserGroupID) bool { return bound[x] }) && f.idle(class, g) {
					for id := range members.All {
						f.add(Finding{Kind: IdleMembership, Of: append(of(policy.Users, string(id)), FindingOf{policy.UserGroups, string(g)}), Mends: []Mend{leave(id, g)}})
					}
				}
			}
		}
	}
	pairs := slices.SortedFunc(maps.Keys(only), func(x, y pair) int { return cmp.Or(cmp.Compare(x.a, y.a), cmp.Compare(x.b, y.b)) })
	for _, p := range pairs {
		user := only[p]
		// Where most of those of one group are few, or in it by another, nothing is told of a single one.
		if together[p] != 1 || sizes[p.a] < smallest || sizes[p.b] < smallest || slices.Contains(f.PassesTo(p.a), p.b) || slices.Contains(f.PassesTo(p.b), p.a) {
			continue
		}
		f.add(Finding{Kind: Leftover, Of: append(of(policy.Users, string(user)), of(policy.UserGroups, string(p.a), string(p.b))...), Mends: []Mend{leave(user, p.a), leave(user, p.b)}})
	}
}

func (f *finder) groupIDs() func(func(policy.UserGroupID) bool) {
	return func(yield func(policy.UserGroupID) bool) {
		for g := range policy.Each[*policy.UserGroup](f.Policy()) {
			if !yield(g.ID) {
				return
			}
		}
	}
}

// linesOf are the numbers of the lines that are given to a group.
func (f *finder) linesOf(group policy.UserGroupID) []int32 {
	s, ok := f.Subjects[decision.SubjectKey{Group: group}]
	if !ok {
		return nil
	}
	return f.LinesOf(s)
}

// idle tells whether users of a class have all that they have by a group otherwise as well, to the instant and the circumstance.
func (f *finder) idle(class *decision.UserClass, group policy.UserGroupID) bool {
	var lines []int32
	for _, g := range f.PassesTo(group) {
		lines = append(lines, f.linesOf(g)...)
	}
	if len(lines) == 0 {
		return false
	}
	_, devices := f.reached(lines)
	without := f.Without(class, group)
	held := false
	for _, d := range devices {
		what := f.Devices.Classes.At(d)
		for _, target := range append([]decision.Target{0}, what.Facts.Points...) {
			a := decision.ResolvedQuery{Who: class, What: what, PointTarget: target, Moment: decision.MomentOf(f.at)}
			b := a
			b.Who = without
			with, left := f.hand(&a), f.hand(&b)
			for right := range f.RightList {
				bears := func(p decision.Part) bool { return p.Bears(right) }
				if !slices.ContainsFunc(with.parts, bears) || f.likeEarlier(&with, right) && f.likeEarlier(&left, right) {
					continue
				}
				held = true
				for _, s := range []*search{{before: &left, after: &with}, {before: &with, after: &left}} {
					if s.had, s.right, s.at = right, right, a.Moment; s.any() {
						return false
					}
				}
			}
		}
	}
	return held
}

// groups looks at groups of users: for those with nobody, and those that list the same people.
func (f *finder) groups() {
	mentions := map[string]int{}
	for _, t := range []policy.Type{policy.UserGroups, policy.Grants, policy.Expectations, policy.Mandates} {
		for r := range f.Policy().Table(t).All() {
			if g, ok := r.(*policy.UserGroup); ok {
				r = &policy.UserGroup{ID: g.ID, Includes: g.Includes, Join: g.Join} // without its thousands of members
			}
			policy.References(r, func(ref policy.Reference) {
				if ref.Type == policy.UserGroups {
					mentions[ref.ID]++
				}
			})
		}
	}
	listed := map[string][]policy.UserGroupID{}
	var order []string
	for g := range policy.Each[*policy.UserGroup](f.Policy()) {
		if len(g.Members) == 0 && len(g.Includes) == 0 {
			var mends []Mend
			if mentions[string(g.ID)] == 0 { // whoever removes others' mentions along had better look at each
				mends = []Mend{f.removal(policy.UserGroups, string(g.ID))}
			}
			f.add(Finding{Kind: EmptyGroup, Of: of(policy.UserGroups, string(g.ID)), Count: mentions[string(g.ID)], Mends: mends})
			continue
		}
		if len(g.Members) < 2 || len(g.Includes) > 0 {
			continue
		}
		var key strings.Builder
		for _, m := range g.Members {
			key.WriteString(string(m.User) + " " + m.From.String() + m.Until.String() + "\n")
		}
		if listed[key.String()] == nil {
			order = append(order, key.String())
		}
		listed[key.String()] = append(listed[key.String()], g.ID)
	}
	for _, key := range order {
		if same := listed[key]; len(same) > 1 {
			var ids []string
			for _, id := range same {
				ids = append(ids, string(id))
			}
			f.add(Finding{Kind: AlikeGroups, Of: of(policy.UserGroups, ids...), Count: strings.Count(key, "\n")})
		}
	}
}

// devices looks at who can do what on each.
func (f *finder) devices() {
	people := f.persons()
	for n := range f.Devices.Inhabited {
		class, members := f.Devices.Classes.At(n), *f.Devices.Members.At(n)
		if class.Facts.Site == "" {
			for id := range members.All {
				f.add(Finding{Kind: Unsorted, Of: of(policy.Devices, string(id))})
			}
		}
		if class.Retired {
			continue
		}
		controllers, first, reached, all := f.who(class, people)
		for id := range members.All {
			self := of(policy.Devices, string(id))
			switch {
			case reached == 0:
				f.add(Finding{Kind: NobodyReaches, Of: self})
			case all:
				f.add(Finding{Kind: AllReach, Of: self, Count: reached})
			}
			if controllers == 1 {
				f.add(Finding{Kind: SinglePerson, Of: append(self, FindingOf{policy.Users, string(first)})})
			}
		}
	}
}

// crew is the people of a class.
type crew struct {
	class *decision.UserClass
	ids   []policy.UserID // the first two
	size  int
}

// persons are the people who can do anything now, by their classes; services are not asked who else could stand in.
func (f *finder) persons() []crew {
	var out []crew
	for n := range f.Users.Inhabited {
		class := f.Users.Classes.At(n)
		if class.Bar != 0 {
			continue
		}
		c := crew{class: class}
		for id := range f.Users.Members.At(n).All {
			if u, _ := policy.Find[*policy.User](f.Policy(), string(id)); u.Kind == policy.Person {
				if c.size++; len(c.ids) < 2 {
					c.ids = append(c.ids, id)
				}
			}
		}
		if c.size > 0 {
			out = append(out, c)
		}
	}
	return out
}

// fewest is how many people there are at least before it is told that all of them reach something.
const fewest = 5

// who counts the people who could control devices of a class at some time, as far as two, and those who could do anything; all tells whether
// everybody could.
func (f *finder) who(class *decision.DeviceClass, people []crew) (controllers int, first policy.UserID, reached int, all bool) {
	total := 0
	all = true
	for i := range people {
		p := &people[i]
		total += p.size
		if controllers > 1 && reached > 0 && !all {
			continue
		}
		a := decision.ResolvedQuery{Who: p.class, What: class, Moment: decision.MomentOf(f.at)}
		if !a.Prefilter() {
			all = false
			continue
		}
		h := f.hand(&a)
		some, controls := false, false
		for right := range f.RightList {
			if controls && some || !slices.ContainsFunc(h.parts, func(q decision.Part) bool { return !q.Line.Deny && q.Bears(right) }) {
				continue
			}
			if !(some && !f.RightList[right].Controls) && (&search{after: &h, had: -1, right: right, at: a.Moment}).any() {
				some, controls = true, controls || f.RightList[right].Controls
			}
		}
		if some {
			reached += p.size
		}
		all = all && some
		if controls {
			if controllers += p.size; first == "" {
				first = p.ids[0]
			}
		}
	}
	return controllers, first, reached, all && total >= fewest
}

// names looks for names that nearly match, where people choose by them.
func (f *finder) names() {
	for _, t := range []policy.Type{policy.Users, policy.UserGroups, policy.DeviceGroups, policy.Sites, policy.Roles, policy.Schedules, policy.Grants} {
		byKey := map[string][]string{}
		var order []string
		for r := range f.Policy().Table(t).All() {
			for _, key := range nearKeys(r.Title()) {
				ids := byKey[key]
				if ids == nil {
					order = append(order, key)
				}
				if len(ids) == 0 || ids[len(ids)-1] != r.Key() { // two letters that are the same leave the same
					byKey[key] = append(ids, r.Key())
				}
			}
		}
		seen := map[string]bool{}
		for _, key := range order {
			ids := byKey[key]
			if len(ids) < 2 || len(ids) > 3 {
				continue // what many share is how they are called, and no slip
			}
			a, b := ids[0], ids[1]
			if seen[a+" "+b] || !near(f.Policy().Title(t, a), f.Policy().Title(t, b)) {
				continue
			}
			seen[a+" "+b] = true
			f.add(Finding{Kind: SimilarNames, Of: of(t, a, b)})
		}
	}
}

// shortest is how long names are at least of which one letter may be another.
const shortest = 6

// nearKeys are what names share that differ in one letter at most: the name without marks, and that without each of its letters.
func nearKeys(name string) []string {
	plain := []rune(plainName(name))
	out := []string{string(plain)}
	if len(plain) < shortest {
		return out
	}
	for i := range plain {
		if !unicode.IsDigit(plain[i]) {
			out = append(out, string(slices.Concat(plain[:i], []rune{'*'}, plain[i+1:])), string(slices.Concat(plain[:i], plain[i+1:])))
		}
	}
	return out
}

func plainName(name string) string {
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, name)
}

// near tells whether two names that share a key are no numbering of one: digits tell them apart on purpose.
func near(a, b string) bool {
	digits := func(s string) string {
		return strings.Map(func(r rune) rune {
			if unicode.IsDigit(r) {
				return r
			}
			return -1
		}, s)
	}
	return digits(a) == digits(b)
}
