package policy_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"sentier/internal/policy"
)

// TestIDsThatAreThereTwice finds them in whatever order records come, and one fault for each.
func TestIDsThatAreThereTwice(t *testing.T) {
	for name, x := range map[string]struct {
		ids  string
		want string // ids that are faulted, in order
	}{
		"in order":                 {"a b c d", ""},
		"out of order":             {"d b c a", ""},
		"side by side":             {"a b b c", "b"},
		"apart":                    {"a b c a", "a"},
		"after the order is lost":  {"b a c b a", "b a"},
		"three times":              {"a a b a", "a a"},
		"the first after the last": {"b c a c", "c"},
	} {
		var records policy.Records
		for _, id := range strings.Fields(x.ids) {
			records.Users = append(records.Users, policy.User{ID: policy.UserID(id)})
			// A device of the same id is another thing.
			records.Devices = append(records.Devices, policy.Device{ID: policy.DeviceID("x" + id)})
		}
		_, err := policy.FromRecords(&records)
		var got []string
		if faults, ok := err.(policy.Faults); ok {
			for _, f := range faults {
				if f.Type == policy.Users {
					got = append(got, f.ID)
					if !strings.Contains(f.Problem.Error(), "is there twice") {
						t.Errorf("%s: %v", name, f)
					}
				}
			}
		}
		if strings.Join(got, " ") != x.want {
			t.Errorf("%s (%s): %q are faulted, want %q: %v", name, x.ids, strings.Join(got, " "), x.want, err)
		}
	}
}

// TestChangingAMembershipCopiesTheList changes lists entry by entry, and leaves the policy before as it was.
func TestChangingAMembershipCopiesTheList(t *testing.T) {
	users := strings.Fields("ana ben cho dee")
	records := policy.Records{UserGroups: []policy.UserGroup{{ID: "crew"}}, Devices: []policy.Device{{ID: "gate"}, {ID: "pump"}}, DeviceGroups: []policy.DeviceGroup{{ID: "gear"}}}
	for _, id := range users {
		records.Users = append(records.Users, policy.User{ID: policy.UserID(id)})
	}
	p, err := policy.FromRecords(&records)
	if err != nil {
		t.Fatal(err)
	}
	shown := func(p *policy.Policy) string {
		var out []string
		g, _ := policy.Find[*policy.UserGroup](p, "crew")
		for _, m := range g.Members {
			out = append(out, string(m.User))
		}
		d, _ := policy.Find[*policy.DeviceGroup](p, "gear")
		for _, id := range d.Devices {
			out = append(out, string(id))
		}
		return strings.Join(out, " ")
	}
	member := func(op policy.Op, id string) policy.Change {
		return policy.Change{Op: op, Type: policy.UserGroups, ID: "crew", List: "members", Entry: policy.Entry{Value: id}}
	}
	device := func(op policy.Op, id string) policy.Change {
		return policy.Change{Op: op, Type: policy.DeviceGroups, ID: "gear", List: "devices", Entry: policy.Entry{Value: id}}
	}
	for _, step := range []struct {
		change  policy.Change
		want    string
		added   int
		dropped int
	}{
		{member(policy.Add, "cho"), "cho", 1, 0},
		{member(policy.Add, "ana"), "ana cho", 1, 0},
		{member(policy.Add, "dee"), "ana cho dee", 1, 0},
		{member(policy.Add, "cho"), "ana cho dee", 0, 0},
		{device(policy.Add, "pump"), "ana cho dee pump", 1, 0},
		{device(policy.Add, "gate"), "ana cho dee gate pump", 1, 0},
		{member(policy.Drop, "ben"), "ana cho dee gate pump", 0, 0},
		{member(policy.Drop, "ana"), "cho dee gate pump", 0, 1},
		{device(policy.Drop, "gate"), "cho dee pump", 0, 1},
		{member(policy.Drop, "dee"), "cho pump", 0, 1},
		{member(policy.Drop, "cho"), "pump", 0, 1},
		{device(policy.Drop, "pump"), "", 0, 1},
	} {
		before := shown(p)
		next, done, err := p.Apply([]policy.Change{step.change})
		if err != nil {
			t.Fatal(err)
		}
		if shown(p) != before || shown(next) != step.want {
			t.Errorf("%+v: %q became %q, and before it is %q", step.change, before, shown(next), shown(p))
		}
		added, dropped := 0, 0
		for _, c := range done {
			a, d := c.Entries()
			added, dropped = added+len(a), dropped+len(d)
		}
		if added != step.added || dropped != step.dropped {
			t.Errorf("%+v: %d entries came and %d went, want %d and %d", step.change, added, dropped, step.added, step.dropped)
		}
		// What is taken back is what was there before.
		back, _, err := next.Apply(policy.Changes(policy.Reverse(done)))
		if err != nil || shown(back) != before {
			t.Errorf("%+v taken back: %q (%v)", step.change, shown(back), err)
		}
		p = next
	}
}

// TestNamesAreFoundAsInAFreshPolicy: whose a name is, as it is carried on from change to change, is what a policy that was read anew finds.
func TestNamesAreFoundAsInAFreshPolicy(t *testing.T) {
	r := rand.New(rand.NewPCG(189, 235))
	p := policy.Empty()
	refused := 0
	for n := range 1500 {
		id, name := fmt.Sprint("r", r.IntN(60)), []string{"Crew ", "crew  ", "Crevv "}[r.IntN(3)]+fmt.Sprint(r.IntN(80))
		var changes []policy.Change
		for range 1 + r.IntN(2) {
			switch r.IntN(5) {
			case 0:
				changes = append(changes, policy.Change{Op: policy.Put, Type: policy.Users, ID: id, Record: &policy.User{ID: policy.UserID(id), Email: fmt.Sprintf("M%d@larkmere.example", r.IntN(70))}})
			case 1:
				if _, there := p.Get(policy.UserGroups, id); there {
					changes = append(changes, policy.Change{Op: policy.Remove, Type: policy.UserGroups, ID: id})
				}
			default:
				changes = append(changes, policy.Change{Op: policy.Put, Type: policy.UserGroups, ID: id, Record: &policy.UserGroup{ID: policy.UserGroupID(id), Name: name}})
			}
			id = fmt.Sprint("r", r.IntN(60))
		}
		next, _, err := p.Apply(changes)
		fresh, failed := policy.FromRecords(p.Records())
		if failed != nil {
			t.Fatal(failed)
		}
		_, _, again := fresh.Apply(changes)
		if fmt.Sprint(err) != fmt.Sprint(again) {
			t.Fatalf("change %d: %v, and in a policy that was read anew %v", n, err, again)
		}
		if err != nil {
			refused++
			continue
		}
		p = next
	}
	if refused < 50 {
		t.Errorf("only %d were refused", refused)
	}
}
