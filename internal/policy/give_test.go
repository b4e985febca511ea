package policy_test

import (
	"encoding/json"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
	"time"

	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// TestGivingAccess gives one access after the other, and says which grant each came to.
func TestGivingAccess(t *testing.T) {
	p, _, err := base(t).Apply([]policy.Change{put(&policy.Schedule{ID: "hours"})})
	if err != nil {
		t.Fatal(err)
	}
	until := time.Date(2026, 12, 1, 17, 0, 0, 0, time.UTC)
	crew, ana := policy.To{Groups: []policy.UserGroupID{"crew"}}, policy.To{Users: []policy.UserID{"ana"}}
	view := func(on policy.Where) policy.Line { return policy.Line{Rights: []policy.RightID{"view"}, On: on} }
	low, gate := policy.Where{Sites: []policy.SiteID{"low"}}, policy.Where{Devices: []policy.DeviceID{"gate-1"}}
	for _, c := range []struct {
		name   string
		access policy.Access
		grant  string // that changes; empty: none
		holds  string // what it says then
	}{
		{"where nothing fits, a new grant", policy.Access{To: ana, Line: view(low)}, "ana-view", `"name":"ana: View"`},
		{"more of the same goes into its line", policy.Access{To: ana, Line: view(gate)}, "ana-view", `"on":{"sites":["low"],"devices":["gate-1"]}`},
		{"what is given already changes nothing", policy.Access{To: ana, Line: view(gate)}, "", ""},
		{"at other hours it is another line", policy.Access{To: ana, Line: policy.Line{Rights: []policy.RightID{"view"}, On: gate, When: []policy.ScheduleID{"hours"}}}, "ana-view", `{"rights":["view"],"on":{"devices":["gate-1"]},"depth":"all","when":["hours"]}]`},
		{"another right is another grant", policy.Access{To: ana, Line: policy.Line{Rights: []policy.RightID{"control"}, On: gate}}, "ana-control", `"name":"ana: Control"`},
		{"another time is another grant", policy.Access{To: ana, Line: view(low), Valid: policy.Span{Until: until}}, "ana-view-until-1-december-2026", `"until":"2026-12-01T17:00:00Z"`},
		{"a line with limits is not the same", policy.Access{To: crew, Line: view(policy.Where{Points: []policy.PointRef{"gate-1/deck"}})}, "g", `"points":["gate-1/deck"]},"depth":"all"}]`},
	} {
		changes, err := p.Give(c.access, nil)
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		if len(changes) == 0 && c.grant == "" {
			continue
		}
		next, _, err := p.Apply(changes)
		if err != nil || len(changes) != 1 || changes[0].ID != c.grant {
			t.Fatalf("%s: %+v (%v), want %s", c.name, changes, err, c.grant)
		}
		g, _ := next.Get(policy.Grants, c.grant)
		if text, _ := json.Marshal(g); !strings.Contains(string(text), c.holds) {
			t.Errorf("%s: %s, want …%s…", c.name, text, c.holds)
		}
		p = next
	}
	for _, a := range []policy.Access{{}, {To: ana}, {To: ana, Line: view(policy.Where{})}, {To: ana, Line: policy.Line{On: low}}, {Line: view(low)}} {
		if _, err := p.Give(a, nil); err == nil {
			t.Errorf("%+v is given", a)
		}
		if _, err := p.TakeBack(a); err == nil {
			t.Errorf("%+v is taken back", a)
		}
	}
}

// TestWhatIsGivenIsTakenBack gives random accesses to random policies and takes them back: where the policy had nothing of it before,
// it is what it was; given twice, it is given once; and one by one, they come to the same as together.
func TestWhatIsGivenIsTakenBack(t *testing.T) {
	t.Parallel()
	apply := func(p *policy.Policy, changes []policy.Change, err error) *policy.Policy {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
		next, _, err := p.Apply(changes)
		if err != nil {
			t.Fatal(err)
		}
		return next
	}
	for seed := range uint64(60) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 61))}
		p := m.Whole(t)
		a := policy.Access{To: policy.To{Users: []policy.UserID{firstOf[policy.UserID](p, policy.Users)}}, Line: policy.Line{Rights: []policy.RightID{"control"}}}
		devices := []policy.DeviceID{}
		for r := range p.Table(policy.Devices).All() {
			if m.IntN(2) == 0 {
				devices = append(devices, policy.DeviceID(r.Key()))
			}
		}
		if len(devices) == 0 {
			continue
		}
		a.Line.On.Devices = devices
		changes, err := p.Give(a, nil)
		given := apply(p, changes, err)
		if again, err := given.Give(a, nil); err != nil || len(again) > 0 {
			t.Fatalf("seed %d: given twice: %v (%v)", seed, again, err)
		}
		oneByOne := p
		for _, d := range devices {
			one := a
			one.Line.On.Devices = []policy.DeviceID{d}
			changes, err := oneByOne.Give(one, nil)
			oneByOne = apply(oneByOne, changes, err)
		}
		if diff := given.Compare(oneByOne); len(diff) > 0 {
			t.Fatalf("seed %d: together and one by one differ by %d records", seed, len(diff))
		}
		if len(changes) == 1 {
			if _, there := p.Get(policy.Grants, changes[0].ID); !there {
				back, err := given.TakeBack(a)
				if diff := apply(given, back, err).Compare(p); len(diff) > 0 {
					t.Fatalf("seed %d: taken back, %d records are other than before", seed, len(diff))
				}
			}
		}
		if reflect.DeepEqual(given, p) {
			t.Fatalf("seed %d: nothing was given", seed)
		}
	}
}

func firstOf[ID ~string](p *policy.Policy, typ policy.Type) (id ID) {
	for r := range p.Table(typ).All() {
		return ID(r.Key())
	}
	return id
}
