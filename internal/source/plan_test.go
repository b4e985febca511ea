package source_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/source"
)

// here is a small policy: Tomas and Mira were here before any source, Tomas is in the bridge crew by hand.
func here(t *testing.T) *policy.Policy {
	t.Helper()
	p, err := policy.FromRecords(&policy.Records{
		Users: []policy.User{{ID: "tomas.field", Name: "Tomas Field", Status: policy.Active}, {ID: "mira.holt", Name: "Mira Holt", Status: policy.Active}},
		UserGroups: []policy.UserGroup{
			{ID: "bridge-crew", Name: "Bridge crew", Enabled: policy.On, Members: []policy.Member{{User: "tomas.field"}}},
			{ID: "lock-keepers", Name: "Lock keepers", Enabled: policy.On},
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

// world is a policy and what is known of the sources, carried on from one reading to the next.
type world struct {
	t      *testing.T
	policy *policy.Policy
	known  *source.Known
}

func newWorld(t *testing.T) *world {
	return &world{t, here(t), source.NewKnown([]source.Of{{ID: "dir", Name: "Directory"}, {ID: "other", Name: "Other"}}, nil, nil)}
}

// read carries out what comes of what a source holds.
func (w *world) read(from string, s source.Intake, held *source.Held) source.Plan {
	w.t.Helper()
	plan := source.Make(w.policy, w.known, from, &s, held)
	next, done, err := w.policy.Apply(plan.Changes)
	if err != nil {
		w.t.Fatalf("what comes of the source cannot be done: %v", err)
	}
	var removed []string
	for _, c := range done {
		if u, ok := c.Before.(*policy.User); ok && c.After == nil {
			removed = append(removed, u.Key())
		}
	}
	w.policy, w.known = next, w.known.With(&plan, removed)
	if again := source.Make(w.policy, w.known, from, &s, held); len(again.Changes) > 0 {
		w.t.Fatalf("read once more, the same source changes something again: %v", again.Changes)
	}
	w.counted(from)
	return plan
}

// counted holds what is counted against what is there.
func (w *world) counted(from string) {
	w.t.Helper()
	n := w.known.Counts(from)
	there := 0
	for u := range policy.Each[*policy.User](w.policy) {
		there += len(w.known.Memberships(from, u.Key()))
	}
	devices, sites, calendars := len(w.known.Things(from, policy.Devices)), len(w.known.Things(from, policy.Sites)), len(w.known.Things(from, policy.Calendars))
	if gone := len(w.known.Vanished(from, policy.Devices, policy.Sites)); n.Devices != devices || n.Sites != sites || n.Calendars != calendars || n.Vanished != gone {
		w.t.Fatalf("counted %+v of %s; there are %d devices, %d sites, %d calendars, and %d are there no more", n, from, devices, sites, calendars, gone)
	}
	if u, g := len(w.known.Things(from, policy.Users)), len(w.known.Things(from, policy.UserGroups)); n.Users != u || n.Groups != g || n.Members != there {
		w.t.Fatalf("counted %d users, %d groups, %d memberships of %s; there are %d, %d, %d", n.Users, n.Groups, n.Members, from, u, g, there)
	}
}

func (w *world) members(group string) string {
	g, ok := policy.Find[*policy.UserGroup](w.policy, group)
	if !ok {
		return "no group"
	}
	var out []string
	for _, m := range g.Members {
		out = append(out, string(m.User))
	}
	return strings.Join(out, " ")
}

func (w *world) user(id string) string {
	u, ok := policy.Find[*policy.User](w.policy, id)
	if !ok {
		return "not there"
	}
	return fmt.Sprintf("%s %s", u.Name, u.Status)
}

func person(id, name string) source.Person {
	return source.Person{Outside: "uuid-" + id, Place: "uid=" + id + ",ou=people,dc=larkmere", ID: id, Name: name, Email: id + "@larkmere.example"}
}

func group(name string, members ...string) source.Group {
	out := source.Group{Outside: "uuid-" + name, Place: "cn=" + name + ",ou=groups,dc=larkmere", Name: name}
	for _, m := range members {
		out.Members = append(out.Members, "uuid-"+m)
	}
	return out
}

var crew = source.Intake{Groups: []source.Mapping{{Outside: "Bridge Crew", Group: "bridge-crew"}}}

func TestWhatComesOfASource(t *testing.T) {
	ana, ben := person("ana.lopes", "Ana Lopes"), person("ben.rowe", "Ben Rowe")
	both := &source.Held{People: []source.Person{ana, ben, person("cleo", "Cleo")}, Groups: []source.Group{group("bridge crew", "ana.lopes", "ben.rowe"), group("office", "cleo")}}
	one := &source.Held{People: []source.Person{ana, ben}, Groups: []source.Group{group("bridge crew", "ana.lopes")}}
	none := &source.Held{People: []source.Person{ana, ben}, Groups: []source.Group{group("bridge crew")}}

	t.Run("those in a mapped group come, whatever the capitals; others do not, and what is by hand stays", func(t *testing.T) {
		w := newWorld(t)
		plan := w.read("dir", crew, both)
		if got := w.members("bridge-crew"); got != "ana.lopes ben.rowe tomas.field" || w.user("cleo") != "not there" || plan.NewUsers != 2 || len(plan.Loose) != 1 {
			t.Errorf("members %q, Cleo %s, %d new, loose %v", got, w.user("cleo"), plan.NewUsers, plan.Loose)
		}
		w.read("dir", crew, one)
		if got := w.members("bridge-crew"); got != "ana.lopes tomas.field" || w.user("ben.rowe") != "Ben Rowe suspended" {
			t.Errorf("after Ben left: members %q, Ben %s", got, w.user("ben.rowe"))
		}
		w.read("dir", crew, both)
		if got := w.members("bridge-crew"); got != "ana.lopes ben.rowe tomas.field" || w.user("ben.rowe") != "Ben Rowe active" {
			t.Errorf("after Ben came back: members %q, Ben %s", got, w.user("ben.rowe"))
		}
	})
	t.Run("everybody comes where it is set so", func(t *testing.T) {
		w, all := newWorld(t), crew
		all.Everybody = true
		if w.read("dir", all, both); w.user("cleo") != "Cleo active" {
			t.Errorf("Cleo %s", w.user("cleo"))
		}
	})
	t.Run("who was suspended by hand is not brought back by the source", func(t *testing.T) {
		w := newWorld(t)
		w.read("dir", crew, both)
		ben, _ := policy.Find[*policy.User](w.policy, "ben.rowe")
		held := *ben
		held.Status = policy.Suspended
		next, _, err := w.policy.Apply([]policy.Change{{Op: policy.Put, Type: policy.Users, ID: "ben.rowe", Record: &held}})
		if err != nil {
			t.Fatal(err)
		}
		w.policy = next
		w.read("dir", crew, both)
		if got := w.user("ben.rowe"); got != "Ben Rowe suspended" {
			t.Errorf("Ben %s", got)
		}
	})
	t.Run("a name is changed by the source; a renamed entry is the same person", func(t *testing.T) {
		w := newWorld(t)
		w.read("dir", crew, both)
		married := ana
		married.ID, married.Name, married.Place = "ana.reis", "Ana Reis", "uid=ana.reis,ou=people,dc=larkmere"
		w.read("dir", crew, &source.Held{People: []source.Person{married, ben}, Groups: both.Groups[:1]})
		if w.user("ana.lopes") != "Ana Reis active" || w.user("ana.reis") != "not there" {
			t.Errorf("ana.lopes %s, ana.reis %s", w.user("ana.lopes"), w.user("ana.reis"))
		}
	})
	for gone, want := range map[string]string{source.GoneSuspended: "Ana Lopes suspended", source.GoneRemoved: "not there", source.GoneKept: "Ana Lopes active"} {
		t.Run("gone: "+gone, func(t *testing.T) {
			w, s := newWorld(t), crew
			s.Gone = gone
			w.read("dir", s, one)
			if w.read("dir", s, none); w.user("ana.lopes") != want || w.members("bridge-crew") != "tomas.field" {
				t.Errorf("Ana %s, members %q", w.user("ana.lopes"), w.members("bridge-crew"))
			}
		})
	}
	t.Run("rules map by prefix, suffix, pattern and branch, and make groups where they may", func(t *testing.T) {
		for _, c := range []struct {
			rule source.MappingRule
			name string
			want string // the group
		}{
			{source.MappingRule{Match: "prefix", Text: "NAV-", Group: "crew-*", Make: true}, "nav-Lock Gate", "crew-lock-gate"},
			{source.MappingRule{Match: "suffix", Text: " crew", Group: "*", Make: true}, "Pump Crew", "pump"},
			{source.MappingRule{Match: "pattern", Text: "x*z*", Group: "fits", Make: true}, "Xyzzy", "fits"},
			{source.MappingRule{Match: "under", Text: "OU=Groups, DC=larkmere", Group: "*", Make: true}, "sirens", "sirens"},
			{source.MappingRule{Match: "prefix", Text: "nav-", Group: "crew-*", Make: true}, "other", "no group"},
			{source.MappingRule{Match: "prefix", Text: "nav-", Group: "crew-*"}, "nav-gates", "no group"},
		} {
			w := newWorld(t)
			w.read("dir", source.Intake{Rules: []source.MappingRule{c.rule}}, &source.Held{People: []source.Person{ana}, Groups: []source.Group{group(c.name, "ana.lopes")}})
			of, want := c.want, "ana.lopes"
			if c.want == "no group" {
				of, want = "crew-gates", "no group"
			}
			if got := w.members(of); got != want {
				t.Errorf("%v: %q has %q, want %q", c.rule, of, got, want)
			}
		}
	})
}

// TestWhatASourceCannotBring tells of each thing by itself, and goes on with the others.
func TestWhatASourceCannotBring(t *testing.T) {
	ana := person("ana.lopes", "Ana Lopes")
	for _, c := range []struct {
		name   string
		person source.Person
		says   string
	}{
		{"an id that ours cannot hold", source.Person{Outside: "1", Place: "uid=x", ID: "Ána Løpes", Name: "A"}, "cannot be an id here"},
		{"no id", source.Person{Outside: "1", Place: "uid=x", Name: "A"}, "no id there"},
		{"an id of somebody who was here", source.Person{Outside: "1", Place: "uid=x", ID: "mira.holt", Name: "Other Mira"}, "link them if they are the same"},
		{"the id of another", source.Person{Outside: "1", Place: "uid=x", ID: "ANA.lopes", Name: "Ana 2"}, `2 people there are known as "ana.lopes"`},
		{"a hostile name", source.Person{Outside: "1", Place: "uid=x", ID: "evil", Name: "a\u202egnp\x00"}, ""},
		{"a name of a book", source.Person{Outside: "1", Place: "uid=x", ID: "long", Name: strings.Repeat("x", 4000)}, "name"},
		{"an address of another", source.Person{Outside: "1", Place: "uid=x", ID: "twin", Name: "Twin", Email: "ANA.lopes@larkmere.example"}, "which somebody else has"},
	} {
		w := newWorld(t)
		g := group("bridge crew", "ana.lopes")
		g.Members = append(g.Members, "1")
		plan := w.read("dir", crew, &source.Held{People: []source.Person{ana, c.person}, Groups: []source.Group{g}})
		if told := fmt.Sprint(plan.Told); !strings.Contains(told, c.says) {
			t.Errorf("%s: told %s, want %q", c.name, told, c.says)
		}
		if c.person.ID == "evil" && w.user("evil") != "agnp active" {
			t.Errorf("%s: %q", c.name, w.user("evil"))
		}
		if was := w.user("mira.holt"); was != "Mira Holt active" {
			t.Errorf("%s: Mira %s", c.name, was)
		}
		if c.name != "the id of another" && w.user("ana.lopes") != "Ana Lopes active" {
			t.Errorf("%s: Ana %s", c.name, w.user("ana.lopes"))
		}
	}
}

func TestALinkAndTwoSources(t *testing.T) {
	w, s := newWorld(t), crew
	mira := person("mira.holt", "Mira Holt-Berg")
	held := &source.Held{People: []source.Person{mira}, Groups: []source.Group{group("bridge crew", "mira.holt")}}
	s.Links = map[string]string{"uuid-mira.holt": "mira.holt"}
	w.read("dir", s, held)
	if w.user("mira.holt") != "Mira Holt-Berg active" || w.members("bridge-crew") != "mira.holt tomas.field" {
		t.Errorf("Mira %s, members %q", w.user("mira.holt"), w.members("bridge-crew"))
	}
	plan := w.read("other", s, held)
	if !strings.Contains(fmt.Sprint(plan.Told), "Directory keeps them") {
		t.Errorf("a second source took over who comes from the first: %v", plan.Told)
	}
	_, done, err := w.policy.Apply([]policy.Change{{Op: policy.Patch, Type: policy.Users, ID: "mira.holt", Patch: []byte(`{"name":"M"}`)}})
	if err != nil {
		t.Fatal(err)
	}
	if from, what, locked := w.known.Locked(done[0]); !locked || from != "dir" || what.Error() != "the name of Mira Holt-Berg" {
		t.Errorf("locked %v by %q: %s", locked, from, what.Error())
	}
	for _, c := range []struct {
		change policy.Change
		locked bool
	}{
		{policy.Change{Op: policy.Patch, Type: policy.Users, ID: "mira.holt", Patch: []byte(`{"note":"on the phone list"}`)}, false},
		{policy.Change{Op: policy.Patch, Type: policy.Users, ID: "mira.holt", Patch: []byte(`{"status":"suspended"}`)}, false},
		{policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: "bridge-crew", List: "members", Entry: policy.Entry{Value: "mira.holt"}}, true},
		{policy.Change{Op: policy.Drop, Type: policy.UserGroups, ID: "bridge-crew", List: "members", Entry: policy.Entry{Value: "tomas.field"}}, false},
		{policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: "lock-keepers", List: "members", Entry: policy.Entry{Value: "mira.holt"}}, false},
	} {
		_, done, err := w.policy.Apply([]policy.Change{c.change})
		if err != nil {
			t.Fatal(err)
		}
		if _, what, locked := w.known.Locked(done[0]); locked != c.locked {
			t.Errorf("%s %s %s: locked %v (%s), want %v", c.change.Op, c.change.ID, c.change.Entry.Value, locked, what.Error(), c.locked)
		}
	}
}

// TestASourceThatIsTakenAwayKeepsNothing: what it has brought stays in the policy, and nobody else's is touched.
func TestASourceThatIsTakenAwayKeepsNothing(t *testing.T) {
	w := newWorld(t)
	w.read("dir", crew, &source.Held{People: []source.Person{person("ana.reis", "Ana Reis")}, Groups: []source.Group{group("bridge crew", "ana.reis")}})
	w.read("other", crew, &source.Held{People: []source.Person{person("leo.brandt", "Leo Brandt")}, Groups: []source.Group{group("bridge crew", "leo.brandt")}})
	before := w.known
	w.known = w.known.Among([]source.Of{{ID: "other", Name: "Other"}})
	w.counted("dir")
	w.counted("other")
	if _, kept := w.known.Origin(policy.Users, "ana.reis"); kept {
		t.Error("a source that was taken away still keeps Ana")
	}
	if by, ok := w.known.Brings("bridge-crew", "ana.reis"); ok {
		t.Errorf("%s, which was taken away, still brings Ana into the crew", by)
	}
	if by, ok := w.known.Brings("bridge-crew", "leo.brandt"); !ok || by != "other" {
		t.Errorf("Leo is brought into the crew by %q, and by the other source before", by)
	}
	if _, kept := before.Origin(policy.Users, "ana.reis"); !kept {
		t.Error("what was known before has changed as well")
	}
	if got := w.members("bridge-crew"); got != "ana.reis leo.brandt tomas.field" {
		t.Errorf("the crew is %q", got)
	}
}

func TestANameThatNearlyMatches(t *testing.T) {
	w := newWorld(t)
	held := &source.Held{People: []source.Person{person("ana.lopes", "Ana Lopes")}, Groups: []source.Group{group("bridge-crew", "ana.lopes"), group("keepers"), group("Keepers")}}
	plan := source.Make(w.policy, w.known, "dir", &source.Intake{Groups: []source.Mapping{
		{Outside: "Bridge Crew", Group: "bridge-crew"}, {Outside: "brigde-crew", Group: "bridge-crew"}, {Outside: "KEEPERS", Group: "lock-keepers"}, {Outside: "pumps", Group: "lock-keepers"},
	}}, held)
	var got []string
	for _, m := range plan.Matched {
		got = append(got, fmt.Sprintf("%s %v %s %s %d", m.Outside, m.Found, m.Why, m.Near, m.NearBy))
	}
	want := []string{"Bridge Crew false missing bridge-crew 1", "brigde-crew false missing bridge-crew 1", "KEEPERS false ambiguous  0", "pumps false missing  0"}
	if !slices.Equal(got, want) {
		t.Errorf("got %q\nwant %q", got, want)
	}
	if len(plan.Changes) > 0 {
		t.Errorf("nothing matches, and yet %v", plan.Changes)
	}
}

// TestNeverTooManyAtOnce: a search that has gone wrong throws nobody out.
func TestNeverTooManyAtOnce(t *testing.T) {
	w := newWorld(t)
	held := &source.Held{}
	g := group("bridge crew")
	for i := range 20 {
		p := person(fmt.Sprintf("p%d", i), "P")
		held.People, g.Members = append(held.People, p), append(g.Members, p.Outside)
	}
	held.Groups = []source.Group{g}
	w.read("dir", crew, held)
	for left, want := range map[int]bool{20: false, 17: false, 16: false, 15: true, 0: true} {
		less := &source.Held{People: held.People[:left], Groups: []source.Group{{Outside: g.Outside, Place: g.Place, Name: g.Name, Members: g.Members[:left]}}}
		if plan := source.Make(w.policy, w.known, "dir", &crew, less); plan.TooMany() != want {
			t.Errorf("%d of 20 are left: too many at once %v, want %v", left, plan.TooMany(), want)
		}
	}
}

// TestReadingsComeToWhatTheSourceHolds: whatever a source held before, and whatever was done by hand beside it, who comes from it is in the end just who is in its
// groups now.
func TestReadingsComeToWhatTheSourceHolds(t *testing.T) {
	r := rand.New(rand.NewPCG(14, 2026))
	for round := range 60 {
		w := newWorld(t)
		s := source.Intake{Groups: []source.Mapping{{Outside: "a", Group: "bridge-crew"}, {Outside: "b", Group: "lock-keepers"}, {Outside: "c", Group: "lock-keepers"}}}
		s.Gone = []string{source.GoneSuspended, source.GoneRemoved, source.GoneKept}[round%3]
		byHand := map[string]bool{"tomas.field": true}
		for range 6 {
			held := &source.Held{}
			in := map[string][]string{}
			for i := range 8 {
				id := fmt.Sprintf("p%d", i)
				if r.IntN(4) > 0 {
					held.People = append(held.People, person(id, fmt.Sprintf("Name %d", r.IntN(3))))
					for _, g := range []string{"a", "b", "c"} {
						if r.IntN(2) == 0 {
							in[g] = append(in[g], id)
						}
					}
				}
			}
			for _, g := range []string{"a", "b", "c"} {
				held.Groups = append(held.Groups, group(g, in[g]...))
			}
			w.read("dir", s, held)
			for group, of := range map[string][]string{"bridge-crew": in["a"], "lock-keepers": append(slices.Clone(in["b"]), in["c"]...)} {
				want := map[string]bool{}
				for _, id := range of {
					want[id] = true
				}
				if group == "bridge-crew" {
					for id := range byHand {
						want[id] = true
					}
				}
				g, _ := policy.Find[*policy.UserGroup](w.policy, group)
				for _, m := range g.Members {
					if !want[string(m.User)] {
						t.Fatalf("round %d: %s is in %s, and not at the source", round, m.User, group)
					}
					delete(want, string(m.User))
				}
				if len(want) > 0 {
					t.Fatalf("round %d: %v are not in %s", round, want, group)
				}
			}
		}
	}
}
