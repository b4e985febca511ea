package policy_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"sentier/internal/policy"
)

// base is a small sound policy that the tests change.
func base(t *testing.T) *policy.Policy {
	t.Helper()
	p, err := policy.FromRecords(&policy.Records{
		Kinds:   []policy.Kind{{ID: "gate"}},
		Sites:   []policy.Site{{ID: "top", Name: "Top"}, {ID: "low", Name: "Low", Parent: "top"}},
		Devices: []policy.Device{{ID: "gate-1", Kind: "gate", Site: "low", Points: []policy.Point{{ID: "deck"}}}},
		Users:   []policy.User{{ID: "ana"}, {ID: "ben"}},
		UserGroups: []policy.UserGroup{
			{ID: "crew", Name: "Crew", Members: []policy.Member{{User: "ana"}}},
			{ID: "all", Name: "All", Includes: []policy.UserGroupID{"crew"}},
		},
		Grants: []policy.Grant{{ID: "g", Name: "Gates", To: policy.To{Groups: []policy.UserGroupID{"crew"}},
			Lines: []policy.Line{{Rights: []policy.RightID{"view"}, On: policy.Where{Points: []policy.PointRef{"gate-1/deck"}},
				Limits: map[string]policy.Limit{"minutes": {Number: 5}}}}}},
	})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func put(r policy.Record) policy.Change {
	return policy.Change{Op: policy.Put, Type: r.Type(), ID: r.Key(), Record: r}
}

func remove(t policy.Type, id string) policy.Change {
	return policy.Change{Op: policy.Remove, Type: t, ID: id}
}

func TestFaultsNameTheirPlaceAndTheMend(t *testing.T) {
	at := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	for name, c := range map[string]struct {
		changes []policy.Change
		path    string
		problem string
	}{
		"an id with capitals":             {[]policy.Change{put(&policy.User{ID: "Ana"})}, "users/Ana.id", "small letters"},
		"a member who is not there":       {[]policy.Change{put(&policy.UserGroup{ID: "x", Members: []policy.Member{{User: "anna"}}})}, "user_groups/x.members[0]", `did you mean "ana"?`},
		"a point the device has not":      {[]policy.Change{put(&policy.Grant{ID: "h", Lines: []policy.Line{{On: policy.Where{Points: []policy.PointRef{"gate-1/dock"}}}}})}, "grants/h.lines[0].on.points[0]", `did you mean "deck"?`},
		"a point that is a device":        {[]policy.Change{put(&policy.Grant{ID: "h", Lines: []policy.Line{{On: policy.Where{Points: []policy.PointRef{"gate-1"}}}}})}, "grants/h.lines[0].on.points[0]", "write device/point"},
		"a point that a grant names goes": {[]policy.Change{put(&policy.Device{ID: "gate-1", Kind: "gate"})}, "grants/g.lines[0].on.points[0]", "gate-1/deck"},
		"a kind in use goes":              {[]policy.Change{remove(policy.Kinds, "gate")}, "devices/gate-1.kind", "still mentions kind"},
		"a user in a group goes":          {[]policy.Change{remove(policy.Users, "ana")}, "user_groups/crew.members[0]", "remove it along"},
		"a device in a grant goes":        {[]policy.Change{remove(policy.Devices, "gate-1")}, "grants/g.lines[0].on.points[0]", "still mentions device"},
		"what is not there goes":          {[]policy.Change{remove(policy.Users, "bem")}, "users/bem", `did you mean "ben"?`},
		"a built-in right goes":           {[]policy.Change{remove(policy.Rights, "view")}, "rights/view", "built in"},
		"a built-in right gets kinds":     {[]policy.Change{put(&policy.Right{ID: "control", Kinds: []policy.KindID{"gate"}})}, "rights/control.kinds", "leave kinds out"},
		"a site within itself":            {[]policy.Change{put(&policy.Site{ID: "top", Name: "Top", Parent: "low"})}, "sites/top.parent", "top → low → top"},
		"groups that include each other":  {[]policy.Change{put(&policy.UserGroup{ID: "crew", Name: "Crew", Includes: []policy.UserGroupID{"all"}})}, "user_groups/crew.includes[0]", "circle"},
		"rights that imply each other":    {[]policy.Change{put(&policy.Right{ID: "a", Implies: []policy.RightID{"b"}}), put(&policy.Right{ID: "b", Implies: []policy.RightID{"a"}})}, "rights/a.implies[0]", "circle: a → b → a"},
		"a name but for capitals":         {[]policy.Change{put(&policy.UserGroup{ID: "x", Name: " CREW "})}, "user_groups/x.name", `taken in the policy by "crew"`},
		"a sibling site's name":           {[]policy.Change{put(&policy.Site{ID: "x", Name: "low", Parent: "top"})}, "sites/x.name", "site top"},
		"a zone that is none":             {[]policy.Change{put(&policy.Site{ID: "x", Zone: "Local"})}, "sites/x.zone", "Europe/Lisbon"},
		"an end before the beginning":     {[]policy.Change{put(&policy.User{ID: "x", Valid: policy.Span{From: at, Until: at}})}, "users/x.valid.until", "after its beginning"},
		"a state that is none":            {[]policy.Change{put(&policy.Device{ID: "x", State: "retird"})}, "devices/x.state", `did you mean "retired"?`},
		"limits on a deny":                {[]policy.Change{put(&policy.Grant{ID: "x", Effect: policy.Deny, Lines: []policy.Line{{Limits: map[string]policy.Limit{"minutes": {Number: 1}}}}})}, "grants/x.lines[0].limits", "leave them out"},
		"a limit of two types":            {[]policy.Change{put(&policy.Grant{ID: "x", Lines: []policy.Line{{Limits: map[string]policy.Limit{"minutes": {Texts: []string{"a"}}}}}})}, "grants/x.lines[0].limits.minutes", "one name has one type"},
		"bounds on an owner":              {[]policy.Change{put(&policy.Mandate{ID: "x", Role: policy.Owner, Sites: []policy.SiteID{"top"}})}, "mandates/x.role", "bound a delegate"},
		"a list that cannot be added to":  {[]policy.Change{{Op: policy.Add, Type: policy.Users, ID: "ana", List: "members"}}, "users/ana.members", "entry by entry"},
		"an email that is none":           {[]policy.Change{put(&policy.User{ID: "x", Email: "x at y"})}, "users/x.email", "name@place"},
		"a day with nothing":              {[]policy.Change{put(&policy.Calendar{ID: "x", Days: []policy.CalendarDay{{}}})}, "calendars/x.days[0]", "give date, or from and to"},
		"a control character":             {[]policy.Change{put(&policy.Kind{ID: "x", Name: "a\x07"})}, "kinds/x.name", "control character"},
		"a window from the end of a day":  {[]policy.Change{put(&policy.Schedule{ID: "x", Windows: []policy.Window{{From: policy.Midnight, To: 60}}})}, "schedules/x.windows[0].from", "00:00 of the next day"},
	} {
		t.Run(name, func(t *testing.T) {
			p := base(t)
			next, _, err := p.Apply(c.changes)
			if next != nil {
				t.Error("a policy came of it")
			}
			faults, ok := err.(policy.Faults)
			if !ok || len(faults) != 1 || faults[0].Path() != c.path || !strings.Contains(faults[0].Problem.Error(), c.problem) {
				t.Errorf("got\n%v\nwant %s: …%s…", err, c.path, c.problem)
			}
		})
	}
}

func TestAllFaultsOfAChangeComeAtOnce(t *testing.T) {
	_, _, err := base(t).Apply([]policy.Change{
		put(&policy.User{ID: "x", Email: "no"}), put(&policy.Device{ID: "y", Kind: "gaet", Site: "lo"}), remove(policy.Sites, "low"),
	})
	if faults, ok := err.(policy.Faults); !ok || len(faults) != 4 {
		t.Errorf("want 4 faults, got:\n%v", err)
	}
}

func TestWhatReferredGoesAlongInOneChange(t *testing.T) {
	next, done, err := base(t).Apply([]policy.Change{remove(policy.Devices, "gate-1"), remove(policy.Grants, "g"), remove(policy.Kinds, "gate")})
	if err != nil || len(done) != 3 || next.Table(policy.Devices).Len() != 0 {
		t.Errorf("%d changes, %v", len(done), err)
	}
}

func TestUndoAndCompareLeadBack(t *testing.T) {
	p := base(t)
	q, done, err := p.Apply([]policy.Change{
		{Op: policy.Add, Type: policy.UserGroups, ID: "crew", List: "members", Entry: policy.Entry{Value: "ben", Until: time.Now()}},
		{Op: policy.Add, Type: policy.Devices, ID: "gate-1", List: "tags", Entry: policy.Entry{Value: "tidal"}},
		{Op: policy.Add, Type: policy.Devices, ID: "gate-1", List: "points", Entry: policy.Entry{Value: "signals"}},
		put(&policy.User{ID: "cho"}), remove(policy.Grants, "g"),
		{Op: policy.Drop, Type: policy.Devices, ID: "gate-1", List: "points", Entry: policy.Entry{Value: "deck"}},
	})
	if err != nil {
		t.Fatal(err)
	}
	if len(done) != 4 {
		t.Errorf("four records changed, not %d", len(done))
	}
	back, _, err := q.Apply(policy.Changes(policy.Reverse(done)))
	if err != nil {
		t.Fatal(err)
	}
	if left := p.Compare(back); len(left) != 0 {
		t.Errorf("after undo %d records differ", len(left))
	}
	again, _, err := p.Apply(policy.Changes(p.Compare(q)))
	if err != nil || len(q.Compare(again)) != 0 {
		t.Errorf("the comparison does not lead to what was compared: %v", err)
	}
	if _, done, err := q.Apply([]policy.Change{put(&policy.User{ID: "cho", Status: policy.Active})}); err != nil || len(done) != 0 {
		t.Errorf("putting what is there is a change: %v %v", done, err)
	}
}

// TestTableAgainstAMap changes a table at random, in small and large steps, beside a plain map.
func TestTableAgainstAMap(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	p, want := policy.Empty(), map[string]bool{}
	for round := range 60 {
		old, oldLen := p, len(want)
		var changes []policy.Change
		touched := map[string]bool{}
		for range 1 + random.IntN(1+round*40) {
			id := fmt.Sprintf("u%d", random.IntN(5000))
			if touched[id] {
				continue
			}
			touched[id] = true
			if want[id] && random.IntN(2) == 0 {
				changes = append(changes, remove(policy.Users, id))
				delete(want, id)
				continue
			}
			changes = append(changes, put(&policy.User{ID: policy.UserID(id), Name: fmt.Sprint(round)}))
			want[id] = true
		}
		next, _, err := p.Apply(changes)
		if err != nil {
			t.Fatal(err)
		}
		p = next
		n, last := 0, ""
		for u := range policy.Each[*policy.User](p) {
			if !want[u.Key()] || u.Key() <= last {
				t.Fatalf("round %d: %s after %s", round, u.Key(), last)
			}
			n, last = n+1, u.Key()
		}
		if n != len(want) || p.Table(policy.Users).Len() != n || old.Table(policy.Users).Len() != oldLen {
			t.Fatalf("round %d: %d records, table says %d, want %d", round, n, p.Table(policy.Users).Len(), len(want))
		}
		for id := range touched {
			if _, ok := p.Get(policy.Users, id); ok != want[id] {
				t.Fatalf("round %d: Get %s is %v", round, id, ok)
			}
		}
	}
}
