package policy_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/demo"
	"sentier/internal/policy"
)

// keys are what changes are about, in their order.
func keys(done []policy.RecordChange) []string {
	out := []string{}
	for _, c := range done {
		out = append(out, fmt.Sprintf("%s/%s %v %v", c.Record().Type(), c.Record().Key(), c.Before != nil, c.After != nil))
	}
	return out
}

// TestCompareFindsWhatWasDone: whatever is put, removed and changed at random, few records or most of them, comparing what came of it with what
// was there tells just that, in the same order; and applied to what was there it leads to the same.
func TestCompareFindsWhatWasDone(t *testing.T) {
	random := rand.New(rand.NewPCG(21, 22))
	p, err := demo.Grown(700, 300)
	if err != nil {
		t.Fatal(err)
	}
	users := []string{}
	for u := range policy.Each[*policy.User](p) {
		users = append(users, u.Key())
	}
	for round := range 20 {
		changes := []policy.Change{}
		for range []int{0, 1, 5, 300, 1500}[random.IntN(5)] {
			id := users[random.IntN(len(users))]
			switch random.IntN(4) {
			case 0:
				id = fmt.Sprintf("newcomer.%d", random.IntN(5000))
				changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: id, Record: &policy.User{ID: policy.UserID(id), Name: "Newcomer"}})
			case 1:
				changes = append(changes, policy.Change{Op: policy.Patch, Type: policy.Users, ID: id, Patch: fmt.Appendf(nil, `{"name": "Renamed %d"}`, random.IntN(3))})
			case 2:
				changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Kinds, ID: fmt.Sprint("kind.", random.IntN(400)), Record: &policy.Kind{ID: policy.KindID(fmt.Sprint("kind.", random.IntN(400))), Name: "Kind"}})
				changes[len(changes)-1].ID = changes[len(changes)-1].Record.Key()
			case 3:
				changes = append(changes, policy.Change{Op: policy.Add, Type: policy.UserGroups, ID: "bridge-crew", List: "members", Entry: policy.Entry{Value: id}})
			}
		}
		q, done, err := p.Apply(changes)
		if err != nil {
			t.Fatal(err)
		}
		found := p.Compare(q)
		if !slices.Equal(keys(done), keys(found)) {
			t.Fatalf("round %d: %d records were changed, %d are found", round, len(done), len(found))
		}
		again, _, err := p.Apply(policy.Changes(found))
		if err != nil || len(again.Compare(q)) != 0 {
			t.Fatalf("round %d: what was found leads elsewhere: %d records differ, %v", round, len(again.Compare(q)), err)
		}
		back, _, err := q.Apply(policy.Changes(policy.Reverse(found)))
		if err != nil || len(back.Compare(p)) != 0 {
			t.Fatalf("round %d: taken back, %d records differ, %v", round, len(back.Compare(p)), err)
		}
		if random.IntN(3) == 0 {
			p = q
		}
	}
}

// TestABuilderSharesWhatIsTheSame: of a policy that is built like another, only what differs takes room of its own.
func TestABuilderSharesWhatIsTheSame(t *testing.T) {
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	records := p.Records()
	for i := range records.Users {
		if records.Users[i].ID == "tomas.field" {
			records.Users[i].Name = "Tomas Feld"
		}
	}
	b := policy.NewBuilder(p)
	for _, r := range records.All() {
		b.Add(r)
	}
	q, err := b.Policy()
	if err != nil {
		t.Fatal(err)
	}
	own := []string{}
	for _, typ := range policy.Types() {
		for r := range q.Table(typ).All() {
			if there, ok := p.Get(typ, r.Key()); !ok || there != r {
				own = append(own, r.Key())
			}
		}
	}
	if !slices.Equal(own, []string{"control", "view", "tomas.field"}) { // what is built in is in no document
		t.Errorf("%v are made anew, want tomas.field alone", own)
	}
	if found := keys(p.Compare(q)); len(found) != 1 {
		t.Errorf("%v differ", found)
	}
}

// TestABuilderTellsEveryFault with the place of its record among those of its type.
func TestABuilderTellsEveryFault(t *testing.T) {
	b := policy.NewBuilder(nil)
	for _, r := range []policy.Record{
		&policy.User{ID: "ana", Name: "Ana"},
		&policy.UserGroup{ID: "crew", Name: "Crew", Members: []policy.Member{{User: "anna"}}},
		&policy.User{ID: "ben", Email: "nowhere"},
		&policy.User{ID: "ana", Name: "Ana again"},
		&policy.User{Name: "Nobody"},
		&policy.User{Name: "Nobody else"},
	} {
		b.Add(r)
	}
	p, err := b.Policy()
	var faults policy.Faults
	if p != nil || !errors.As(err, &faults) {
		t.Fatalf("built with %v", err)
	}
	for _, want := range []string{
		"users[1].email: \"nowhere\" is no e-mail address", "users[2].id: the id ana is there twice", "users[3].id: is missing", "users[4].id: is missing",
		"user_groups[0].members[0]: there is no user \"anna\": did you mean \"ana\"?",
	} {
		if !strings.Contains(err.Error(), want) {
			t.Errorf("not told: %s\n%v", want, err)
		}
	}
	if len(faults) != 5 {
		t.Errorf("%d faults are told:\n%v", len(faults), err)
	}
}

// TestManyChangesAreThoseOneByOne: whatever is added to and dropped from lists, put and removed in one change leads to where the same leads one
// after the other.
func TestManyChangesAreThoseOneByOne(t *testing.T) {
	random := rand.New(rand.NewPCG(41, 42))
	users := strings.Fields("ana ben cho dee eva")
	devices := strings.Fields("gate pump siren")
	records := policy.Records{UserGroups: []policy.UserGroup{{ID: "crew", Name: "Crew"}, {ID: "night", Name: "Night"}}, DeviceGroups: []policy.DeviceGroup{{ID: "gear", Name: "Gear"}}}
	for _, id := range users {
		records.Users = append(records.Users, policy.User{ID: policy.UserID(id), Name: id})
	}
	for _, id := range devices {
		records.Devices = append(records.Devices, policy.Device{ID: policy.DeviceID(id), Name: id})
	}
	p, err := policy.FromRecords(&records)
	if err != nil {
		t.Fatal(err)
	}
	one := func(list ...string) string { return list[random.IntN(len(list))] }
	day := func() (at time.Time) {
		if n := random.IntN(4); n > 0 {
			at = time.Date(2026, 12, n, 0, 0, 0, 0, time.UTC)
		}
		return at
	}
	for round := range 1500 {
		var changes []policy.Change
		for range 1 + random.IntN(8) {
			c := policy.Change{Op: []policy.Op{policy.Add, policy.Add, policy.Drop}[random.IntN(3)], Type: policy.UserGroups, ID: one("crew", "night"), List: "members", Beside: random.IntN(2) == 0}
			c.Entry = policy.Entry{Value: one(users...), Until: day()}
			switch random.IntN(8) {
			case 0:
				c = policy.Change{Op: policy.Put, Type: policy.UserGroups, ID: "crew", Record: &policy.UserGroup{ID: "crew", Name: "Crew", Members: []policy.Member{{User: "ana"}, {User: "ana", Until: day()}}}}
			case 1:
				c = policy.Change{Op: policy.Remove, Type: policy.UserGroups, ID: "night"}
			case 2:
				c = policy.Change{Op: policy.Put, Type: policy.UserGroups, ID: "night", Record: &policy.UserGroup{ID: "night", Name: "Night"}}
			case 3, 4:
				c = policy.Change{Op: c.Op, Type: policy.DeviceGroups, ID: "gear", List: "devices", Entry: policy.Entry{Value: one(devices...)}}
			case 5:
				c = policy.Change{Op: policy.Patch, Type: policy.UserGroups, ID: "crew", Patch: []byte(`{"name": "Crew", "members": ["ana"]}`)}
			}
			changes = append(changes, c)
		}
		want, wrong := p, error(nil)
		for i := 0; i < len(changes) && wrong == nil; i++ {
			want, _, wrong = want.Apply(changes[i : i+1])
		}
		got, done, err := p.Apply(changes)
		if (err == nil) != (wrong == nil) {
			t.Fatalf("round %d: at once %v, one by one %v: %+v", round, err, wrong, changes)
		}
		if err != nil {
			continue
		}
		if len(got.Compare(want)) != 0 || len(want.Compare(got)) != 0 {
			t.Fatalf("round %d: at once and one by one differ in %v: %+v", round, keys(got.Compare(want)), changes)
		}
		if back, _, err := got.Apply(policy.Changes(policy.Reverse(done))); err != nil || len(back.Compare(p)) != 0 {
			t.Fatalf("round %d: taken back, it is not what was there: %v", round, err)
		}
		if random.IntN(4) == 0 {
			p = got
		}
	}
}
