package survey

import (
	"cmp"
	"maps"
	"runtime"
	"slices"
	"strings"
	"sync"
	"unicode"

	"sentier/internal/decision"
	"sentier/internal/policy"
)

// members looks at memberships and accounts.
func (f *finder) members() {
	for u := range policy.Each[*policy.User](f.Policy()) {
		switch until := u.Valid.Until; {
		case !until.IsZero() && !until.After(f.At) && u.Status != policy.Suspended:
			f.add(Finding{Kind: PastEnd, Of: of(policy.Users, string(u.ID)), At: until})
		case f.soon(until):
			f.add(Finding{Kind: EndsSoon, Of: of(policy.Users, string(u.ID)), At: until})
		}
	}
	for g := range policy.Each[*policy.UserGroup](f.Policy()) {
		for _, m := range g.Members {
			if m.Until.IsZero() {
				continue
			}
			about := append(of(policy.Users, string(m.User)), FindingOf{policy.UserGroups, string(g.ID)})
			switch {
			case !m.Until.After(f.At):
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
		for _, id := range slices.Concat(e.Who.Groups, e.Except.Groups) {
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
	gives := f.gives
	if gives == nil {
		gives = map[policy.UserGroupID]bool{}
		for g := range policy.Each[*policy.UserGroup](f.Policy()) {
			gives[g.ID] = slices.ContainsFunc(f.PassesTo(g.ID), func(to policy.UserGroupID) bool { return len(f.linesOf(to)) > 0 })
		}
		f.gives = gives
	}
	for n := range f.Users.Inhabited {
		members := *f.Users.Members.At(n)
		class, _ := cameIn(f.Users.Classes.At(n))
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
				if !slices.ContainsFunc(f.PassesTo(g), func(x policy.UserGroupID) bool { return bound[x] }) && slices.Contains(f.standings[n].idle, g) {
					f.addEach(IdleMembership, members, func(id policy.UserID) Finding {
						return Finding{Kind: IdleMembership, Of: append(of(policy.Users, string(id)), FindingOf{policy.UserGroups, string(g)}), Mends: []Mend{leave(id, g)}}
					})
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

// linesOf are the numbers of the lines that are given to a group.
func (f *finder) linesOf(group policy.UserGroupID) []int32 {
	s, ok := f.Subjects[decision.SubjectKey{Group: group}]
	if !ok {
		return nil
	}
	return f.LinesOf(s)
}

// groups looks at groups of users: for those with nobody, and those that list the same people.
func (f *finder) groups() {
	mentions, included := f.mentions(), map[policy.UserGroupID]int{}
	for g := range policy.Each[*policy.UserGroup](f.Policy()) {
		countMentions(&policy.UserGroup{ID: g.ID, Includes: g.Includes, Join: g.Join}, included) // without its thousands of members
	}
	type ends struct { // of a list: where they are others, so is the list
		first, last policy.UserID
		size        int
	}
	alike := map[ends][]*policy.UserGroup{}
	var order []ends
	for g := range policy.Each[*policy.UserGroup](f.Policy()) {
		if len(g.Members) == 0 && len(g.Includes) == 0 {
			var mends []Mend
			count := mentions[g.ID] + included[g.ID]
			if count == 0 { // whoever removes others' mentions along had better look at each
				mends = []Mend{f.removal(policy.UserGroups, string(g.ID))}
			}
			f.add(Finding{Kind: EmptyGroup, Of: of(policy.UserGroups, string(g.ID)), Count: count, Mends: mends})
			continue
		}
		if len(g.Members) < 2 || len(g.Includes) > 0 {
			continue
		}
		key := ends{g.Members[0].User, g.Members[len(g.Members)-1].User, len(g.Members)}
		if alike[key] == nil {
			order = append(order, key)
		}
		alike[key] = append(alike[key], g)
	}
	for _, key := range order {
		for rest := alike[key]; len(rest) > 1; {
			first := rest[0]
			same := func(g *policy.UserGroup) bool {
				return slices.EqualFunc(first.Members, g.Members, func(a, b policy.Member) bool {
					return a.User == b.User && a.From.Equal(b.From) && a.Until.Equal(b.Until)
				})
			}
			var ids []string
			for _, g := range rest {
				if same(g) {
					ids = append(ids, string(g.ID))
				}
			}
			if len(ids) > 1 {
				f.add(Finding{Kind: AlikeGroups, Of: of(policy.UserGroups, ids...), Count: len(first.Members)})
			}
			rest = slices.DeleteFunc(rest, same)
		}
	}
}

// devices looks at who can do what on each.
func (f *finder) devices() {
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
		a := &f.access[n]
		if a.reached > 0 && a.reached < f.people && a.controllers != 1 {
			continue
		}
		for id := range members.All {
			self := of(policy.Devices, string(id))
			switch {
			case a.reached == 0:
				f.add(Finding{Kind: NobodyReaches, Of: self})
			case a.reached == f.people && f.people >= fewest:
				f.add(Finding{Kind: AllReach, Of: self, Count: a.reached})
			}
			if a.controllers == 1 {
				f.add(Finding{Kind: SinglePerson, Of: append(self, FindingOf{policy.Users, string(a.first)})})
			}
		}
	}
}

// access is who can do what on devices of a class.
type access struct {
	controllers int           // people who have come in and could control them at some time, as far as two
	first       policy.UserID // of them
	reached     int           // people who could do anything, as far as it is clear whether that is nobody, or everybody
}

// reachers finds who can do what on devices of some classes, side by side.
func (f *finder) reachers(classes []int32) {
	given := make([][]decision.Subject, len(f.ByTarget)) // by target: those who are given anything on it
	for i := range f.Lines {
		if l := &f.Lines[i]; !l.Deny {
			for _, t := range l.On {
				for _, s := range l.To {
					if !slices.Contains(given[t], s) {
						given[t] = append(given[t], s)
					}
				}
			}
		}
	}
	shares := min(runtime.GOMAXPROCS(0), len(classes)/few+1)
	var wait sync.WaitGroup
	for n := range shares {
		wait.Go(func() {
			holders := decision.NewClassSet(f.Users.Classes.Size)
			for _, class := range classes[n*len(classes)/shares : (n+1)*len(classes)/shares] {
				if d := f.Devices.Classes.At(class); !d.Retired {
					holders.Clear()
					for _, t := range d.Facts.Targets {
						for _, s := range given[t] {
							holders.Add(f.Holders(s))
						}
					}
					f.access[class] = f.who(d, holders.List)
				}
			}
		})
	}
	wait.Wait()
}

// crew is the people of a class.
type crew struct {
	first   policy.UserID
	size    int
	invited bool // they have yet to come in, and nobody is asked again when they do
}

// persons are the people who can do anything, by their classes, and how many; services are not asked who else could stand in.
func (f *finder) persons() (crews []crew, people int) {
	crews = make([]crew, f.Users.Classes.Size)
	services := map[policy.UserID]bool{}
	for u := range policy.Each[*policy.User](f.Policy()) {
		if u.Kind != policy.Person {
			services[u.ID] = true
		}
	}
	for n := range f.Users.Inhabited {
		class, invited := cameIn(f.Users.Classes.At(n))
		if class.Bar != 0 {
			continue
		}
		c := &crews[n]
		c.invited = invited
		for id := range f.Users.Members.At(n).All {
			if !services[id] {
				if c.size++; c.first == "" {
					c.first = id
				}
			}
		}
		people += c.size
	}
	return crews, people
}

// fewest is how many people there are at least before it is told that all of them reach something.
const fewest = 5

// who counts the people of some classes of users who could do something on devices of a class; all others could do nothing.
func (f *finder) who(class *decision.DeviceClass, holders []int32) (out access) {
	missing := f.people
	for _, n := range holders {
		missing -= f.crews[n].size
	}
	for _, n := range holders {
		c := &f.crews[n]
		if c.size == 0 {
			continue
		}
		if out.controllers > 1 && out.reached > 0 && missing > 0 {
			break
		}
		a := decision.ResolvedQuery{Who: f.Users.Classes.At(n), What: class, Moment: decision.MomentOf(f.At)}
		h := f.hand(&a)
		some, controls := false, false
		for right := range f.RightList {
			if (controls || c.invited) && some || !slices.ContainsFunc(h.parts, func(q decision.Part) bool { return !q.Line.Deny && q.Bears(right) }) {
				continue
			}
			if !(some && !f.RightList[right].Controls) && (&search{after: &h, had: -1, right: right, at: a.Moment}).any() {
				some, controls = true, controls || f.RightList[right].Controls
			}
		}
		if some {
			out.reached += c.size
		} else {
			missing += c.size
		}
		if controls && !c.invited { // who has yet to come in cannot stand in for anybody
			if out.controllers += c.size; out.first == "" || c.first < out.first {
				out.first = c.first
			}
		}
	}
	return out
}

// names looks for names that nearly match, where people choose by them.
func (f *finder) names() {
	for i, t := range namedTypes {
		for _, pair := range f.similar[i] {
			f.add(Finding{Kind: SimilarNames, Of: of(t, pair[0], pair[1])})
		}
	}
}

// namedTypes are those of which people choose by name.
var namedTypes = [...]policy.Type{policy.Users, policy.UserGroups, policy.DeviceGroups, policy.Sites, policy.Roles, policy.Schedules, policy.Grants}

// called is how many share a name at most that is a slip of another, and no common one.
const called = 3

// similar finds the ids of two records each whose names nearly match.
func similar(table policy.Table) (out [][2]string) {
	type record struct{ id, title, plain string }
	var all []record
	times := map[string]int32{} // that a plain name was met
	keys := map[uint64]sharing{}
	for r := range table.All() {
		n := record{r.Key(), r.Title(), plainName(r.Title())}
		all = append(all, n)
		if times[n.plain]++; times[n.plain] > called+1 {
			continue // what many share is how they are called, and no slip
		}
		visitKeys(n.plain, func(key uint64) {
			of := keys[key]
			of.add(int32(len(all) - 1))
			keys[key] = of
		})
	}
	seen := map[[2]int32]bool{}
	for _, of := range keys {
		if of.count < 2 || of.count > called || seen[of.first] {
			continue
		}
		seen[of.first] = true
		if x, y := &all[of.first[0]], &all[of.first[1]]; x.id != y.id && near(x.title, y.title) && shareKey(x.plain, y.plain) {
			out = append(out, [2]string{x.id, y.id})
		}
	}
	slices.SortFunc(out, func(a, b [2]string) int { return cmp.Or(cmp.Compare(a[0], b[0]), cmp.Compare(a[1], b[1])) })
	return out
}

// sharing is who shares a key: how many, and the first two.
type sharing struct {
	count int32
	first [2]int32
}

func (s *sharing) add(n int32) {
	if s.count < 2 {
		s.first[s.count] = n
	}
	s.count++
}

// shareKey tells whether two names share a key: hashes that are the same are not yet names that are.
func shareKey(a, b string) bool {
	mine := nearKeys(a)
	return slices.ContainsFunc(nearKeys(b), func(key string) bool { return slices.Contains(mine, key) })
}

// visitKeys visits hashes of the keys that [nearKeys] lists of a name, each made of those of what stands before and behind a letter.
func visitKeys(name string, visit func(key uint64)) {
	const base = 0x9E3779B97F4A7C15 // any odd number with bits all over
	plain := []rune(name)
	behind, power := make([]uint64, len(plain)+1), make([]uint64, len(plain)+1)
	power[0] = 1
	for i := range plain {
		power[i+1] = power[i] * base
	}
	for i := len(plain) - 1; i >= 0; i-- {
		behind[i] = (uint64(plain[i])+1)*power[len(plain)-1-i] + behind[i+1]
	}
	visit(behind[0])
	if len(plain) < shortest {
		return
	}
	before := uint64(0)
	for i, letter := range plain {
		rest := len(plain) - 1 - i
		if !unicode.IsDigit(letter) {
			visit((before*base+'*'+1)*power[rest] + behind[i+1])
			if i == 0 || letter != plain[i-1] { // else it leaves the same
				visit(before*power[rest] + behind[i+1])
			}
		}
		before = before*base + uint64(letter) + 1
	}
}

// shortest is how long names are at least of which one letter may be another.
const shortest = 6

// nearKeys are what names share that differ in one letter at most: the name without marks, and that without each of its letters.
func nearKeys(name string) []string {
	plain := []rune(name)
	out := []string{name}
	if len(plain) < shortest {
		return out
	}
	for i := range plain {
		if unicode.IsDigit(plain[i]) {
			continue
		}
		out = append(out, string(slices.Concat(plain[:i], []rune{'*'}, plain[i+1:])))
		if i == 0 || plain[i] != plain[i-1] { // else it leaves the same
			out = append(out, string(slices.Concat(plain[:i], plain[i+1:])))
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
