package policy_test

import (
	"encoding/json"
	"math/rand/v2"
	"strings"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// TestWhatARemovalLeaves says of each mention what becomes of the record that makes it: "Removing with its mentions".
func TestWhatARemovalLeaves(t *testing.T) {
	line := func(change func(l *policy.Line)) policy.Line {
		l := policy.Line{Rights: []policy.RightID{"view"}, On: policy.Where{Sites: []policy.SiteID{"low"}}}
		change(&l)
		return l
	}
	grant := func(lines ...policy.Line) *policy.Grant {
		return &policy.Grant{ID: "x", To: policy.To{Users: []policy.UserID{"ana"}}, Lines: lines}
	}
	kept := line(func(*policy.Line) {})
	hours := &policy.Schedule{ID: "hours", Windows: []policy.Window{{From: 480, To: 960}}}
	for name, c := range map[string]struct {
		beside []policy.Record
		typ    policy.Type
		id     string
		left   string // of x, as JSON; empty: it goes as well
	}{
		"a line that was open in one schedule goes": {[]policy.Record{hours, grant(kept, line(func(l *policy.Line) { l.When = []policy.ScheduleID{"hours"} }))}, policy.Schedules, "hours",
			`"lines":[{"rights":["view"],"on":{"sites":["low"]},"depth":"all"}]`},
		"a line with another schedule stays": {[]policy.Record{hours, &policy.Schedule{ID: "more"}, grant(line(func(l *policy.Line) { l.When = []policy.ScheduleID{"hours", "more"} }))}, policy.Schedules, "hours",
			`"when":["more"]`},
		"a grant whose only line goes":                    {[]policy.Record{hours, grant(line(func(l *policy.Line) { l.When = []policy.ScheduleID{"hours"} }))}, policy.Schedules, "hours", ""},
		"a grant that reaches nobody any more goes":       {[]policy.Record{grant(kept)}, policy.Users, "ana", ""},
		"a line that was for one place only goes":         {[]policy.Record{grant(line(func(l *policy.Line) { l.If.Places = []policy.SiteID{"low"}; l.On = policy.Where{Everything: true} }))}, policy.Sites, "low", ""},
		"a line that covers nothing any more goes":        {[]policy.Record{grant(kept, line(func(l *policy.Line) { l.On = policy.Where{Devices: []policy.DeviceID{"gate-1"}} }))}, policy.Devices, "gate-1", `"lines":[{"rights":["view"],"on":{"sites":["low"]},"depth":"all"}]`},
		"points go with their device":                     {[]policy.Record{grant(line(func(l *policy.Line) { l.On.Points = []policy.PointRef{"gate-1/deck"} }))}, policy.Devices, "gate-1", `"on":{"sites":["low"]}`},
		"a line without a right goes":                     {[]policy.Record{&policy.Right{ID: "open"}, grant(kept, line(func(l *policy.Line) { l.Rights = []policy.RightID{"open"} }))}, policy.Rights, "open", `"rights":["view"]`},
		"a right for one kind goes with it":               {[]policy.Record{&policy.Right{ID: "x", Kinds: []policy.KindID{"gate"}}}, policy.Kinds, "gate", ""},
		"a device without a kind stays":                   {[]policy.Record{&policy.Device{ID: "x", Kind: "gate"}}, policy.Kinds, "gate", `{"id":"x","state":"in-service"}`},
		"a device without a site is not sorted":           {[]policy.Record{&policy.Device{ID: "x", Site: "low"}}, policy.Sites, "low", `{"id":"x","state":"in-service"}`},
		"a site moves up":                                 {[]policy.Record{&policy.Site{ID: "x", Parent: "low"}}, policy.Sites, "low", `"parent":"top"`},
		"a match that loses its last kind goes":           {[]policy.Record{&policy.DeviceGroup{ID: "x", Devices: []policy.DeviceID{"gate-1"}, Match: &policy.Match{Kinds: []policy.KindID{"gate"}}}}, policy.Kinds, "gate", `{"id":"x","devices":["gate-1"]}`},
		"a match with another stays":                      {[]policy.Record{&policy.Kind{ID: "crane"}, &policy.DeviceGroup{ID: "x", Match: &policy.Match{Kinds: []policy.KindID{"crane", "gate"}}}}, policy.Kinds, "gate", `"match":{"kinds":["crane"]}`},
		"a member goes from a group":                      {[]policy.Record{&policy.UserGroup{ID: "x", Members: []policy.Member{{User: "ana"}, {User: "ben"}}}}, policy.Users, "ana", `"members":["ben"]`},
		"a mandate that reaches nobody any more goes":     {[]policy.Record{&policy.Mandate{ID: "x", Role: policy.Auditor, To: policy.Holders{Users: []policy.UserID{"ana"}}}}, policy.Users, "ana", ""},
		"special days go with their calendar":             {[]policy.Record{&policy.Calendar{ID: "feasts"}, &policy.Schedule{ID: "x", Special: []policy.Special{{Calendar: "feasts"}}}}, policy.Calendars, "feasts", `{"id":"x","zone":"site"}`},
		"a role stays, though it has no right any more":   {[]policy.Record{&policy.Right{ID: "open"}, &policy.Role{ID: "x", Rights: []policy.RightID{"open"}}}, policy.Rights, "open", `{"id":"x"}`},
		"a group of devices moves up, and keeps its list": {[]policy.Record{&policy.DeviceGroup{ID: "outer"}, &policy.DeviceGroup{ID: "mid", Parent: "outer"}, &policy.DeviceGroup{ID: "x", Parent: "mid"}}, policy.DeviceGroups, "mid", `"parent":"outer"`},
	} {
		t.Run(name, func(t *testing.T) {
			var changes []policy.Change
			for _, r := range c.beside {
				changes = append(changes, put(r))
			}
			p, _, err := base(t).Apply(changes)
			if err != nil {
				t.Fatal(err)
			}
			next, _, err := p.Apply(p.Cascade(c.typ, c.id))
			if err != nil {
				t.Fatal(err)
			}
			r, there := next.Get(c.beside[len(c.beside)-1].Type(), "x")
			if !there {
				if c.left != "" {
					t.Errorf("it is gone, want %s", c.left)
				}
				return
			}
			if text, err := json.Marshal(r); err != nil || c.left == "" || !strings.Contains(string(text), c.left) {
				t.Errorf("%s (%v), want %s", text, err, c.left)
			}
		})
	}
}

// TestARemovalTouchesWhatMentionsAndNothingElse removes every record of random policies with its mentions: nothing mentions it
// afterwards, what is left is sound, and what had no part in it is the very same record.
func TestARemovalTouchesWhatMentionsAndNothingElse(t *testing.T) {
	t.Parallel()
	removed := 0
	for seed := range uint64(12) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 29))}
		p := m.Whole(t)
		for _, typ := range policy.Types() {
			for r := range p.Table(typ).All() {
				changes := p.Cascade(typ, r.Key())
				next, _, err := p.Apply(changes)
				if err != nil {
					if typ != policy.Rights && typ != policy.Mandates && typ != policy.Users && typ != policy.UserGroups {
						t.Fatalf("seed %d: without %s %s: %v", seed, typ, r.Key(), err)
					}
					continue // what has to stay is refused: view and control, the last owner
				}
				removed++
				touched := map[string]bool{}
				for _, c := range changes {
					touched[c.Type.String()+"/"+c.ID] = true
				}
				if _, there := next.Get(typ, r.Key()); there || len(next.Mentions(typ, r.Key())) > 0 {
					t.Fatalf("seed %d: %s %s is there, or mentioned, after its removal", seed, typ, r.Key())
				}
				for _, other := range policy.Types() {
					for x := range p.Table(other).All() {
						y, there := next.Get(other, x.Key())
						if !touched[other.String()+"/"+x.Key()] && (!there || x != y) {
							t.Fatalf("seed %d: without %s %s, %s %s is another", seed, typ, r.Key(), other, x.Key())
						}
					}
				}
			}
		}
	}
	if removed < 300 {
		t.Errorf("only %d removals were possible", removed)
	}
}
