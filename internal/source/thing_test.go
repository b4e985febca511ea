package source_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"sentier/internal/policy"
	"sentier/internal/source"
)

var plant = source.Intake{Things: true}

// works is a small policy with a site, a kind and a device that was here before any list.
func works(t *testing.T) *world {
	t.Helper()
	p, err := policy.FromRecords(&policy.Records{
		Kinds:   []policy.Kind{{ID: "pump", Name: "Pump"}},
		Sites:   []policy.Site{{ID: "summit", Name: "Summit"}},
		Devices: []policy.Device{{ID: "mast", Name: "Mast", Site: "summit", State: policy.InService, Common: policy.Common{Note: "by hand"}}},
	})
	if err != nil {
		t.Fatal(err)
	}
	return &world{t, p, source.NewKnown([]source.Of{{ID: "plant", Name: "Plant register"}}, nil, nil)}
}

func device(outside, name, site string) source.Thing {
	return source.Thing{Type: policy.Devices, Outside: outside, Name: name, Site: site}
}

func (w *world) device(id string) string {
	d, ok := policy.Find[*policy.Device](w.policy, id)
	if !ok {
		return "not there"
	}
	return strings.TrimSpace(fmt.Sprintf("%s|%s|%s|%s", d.Name, d.Kind, d.Site, d.Note))
}

func told(p source.Plan) string {
	var out []string
	for _, t := range p.Told {
		out = append(out, t.String())
	}
	return strings.Join(out, "\n")
}

func TestWhatComesOfAList(t *testing.T) {
	t.Run("devices come to sites of the list, of ours by id or name, or stay unsorted", func(t *testing.T) {
		w := works(t)
		plan := w.read("plant", plant, &source.Held{Things: []source.Thing{
			device("P-1", "Weir pump", "S-1"), device("P-2", "Summit pump", "summit"), device("P-3", "Third", "SUMMIT"), device("P-4", "Lost", "nowhere"), device("Tür 5", "Gate", ""),
			{Type: policy.Sites, Outside: "S-2", Name: "Below it", Site: "S-1", Zone: "Europe/Madrid"}, {Type: policy.Sites, Outside: "S-1", Name: "Weir island", Site: "Summit"},
		}})
		for id, want := range map[string]string{"p-1": "Weir pump||s-1|", "p-2": "Summit pump||summit|", "p-3": "Third||summit|", "p-4": "Lost|||", "gate": "Gate|||"} {
			if got := w.device(id); got != want {
				t.Errorf("%s: %q, want %q", id, got, want)
			}
		}
		if s, ok := policy.Find[*policy.Site](w.policy, "s-2"); !ok || s.Parent != "s-1" || s.Zone != "Europe/Madrid" {
			t.Errorf("the site within: %+v", s)
		}
		if plan.NewThings != 7 || !strings.Contains(told(plan), `there is no site "nowhere"`) {
			t.Errorf("%d new, told %s", plan.NewThings, told(plan))
		}
	})
	t.Run("a renamed device is the same, and what the list does not say of it is ours", func(t *testing.T) {
		w := works(t)
		w.read("plant", plant, &source.Held{Things: []source.Thing{device("P-1", "Pump", "")}})
		d, _ := policy.Find[*policy.Device](w.policy, "p-1")
		moved := *d
		moved.Site, moved.Note = "summit", "wet"
		next, done, err := w.policy.Apply([]policy.Change{{Op: policy.Put, Type: policy.Devices, ID: "p-1", Record: &moved}})
		if err != nil {
			t.Fatal(err)
		}
		if _, what, locked := w.known.Locked(done[0]); locked {
			t.Errorf("what the list says nothing of is kept by it: %s", what)
		}
		w.policy = next
		w.read("plant", plant, &source.Held{Things: []source.Thing{{Type: policy.Devices, Outside: "P-1", Name: "Pump, new", Kind: "Pump", Tags: []string{"weir"}}}})
		if got := w.device("p-1"); got != "Pump, new|pump|summit|wet" {
			t.Errorf("after the next reading: %q", got)
		}
		o, _ := w.known.Origin(policy.Devices, "p-1")
		if got := o.Keeps(); !slices.Equal(got, []string{"name", "kind", "tags"}) {
			t.Errorf("the list keeps %v", got)
		}
	})
	t.Run("what was here before is taken over only where that is said", func(t *testing.T) {
		w := works(t)
		both := &source.Held{Things: []source.Thing{device("mast", "Mast of the register", "")}}
		if plan := w.read("plant", plant, both); !strings.Contains(told(plan), "is here already under that id") || w.device("mast") != "Mast||summit|by hand" {
			t.Errorf("%s: %s", w.device("mast"), told(plan))
		}
		w.read("plant", source.Intake{Things: true, Links: map[string]string{"M-7": "mast"}}, &source.Held{Things: []source.Thing{device("M-7", "Linked mast", "")}})
		if got := w.device("mast"); got != "Linked mast||summit|by hand" {
			t.Errorf("linked: %q", got)
		}
		w = works(t)
		w.read("plant", source.Intake{Things: true, Same: true}, both)
		if got := w.device("mast"); got != "Mast of the register||summit|by hand" {
			t.Errorf("the same: %q", got)
		}
	})
	t.Run("what is in the list no more stays, is told, can be removed, and may come back", func(t *testing.T) {
		w := works(t)
		both := &source.Held{Things: []source.Thing{device("P-1", "One", ""), device("P-2", "Two", "")}}
		w.read("plant", plant, both)
		plan := w.read("plant", plant, &source.Held{Things: both.Things[:1]})
		gone := w.known.Vanished("plant", policy.Devices)
		if plan.GoneThings != 1 || len(plan.Changes) > 0 || len(gone) != 1 || gone[0].Record != "p-2" || w.device("p-2") != "Two|||" {
			t.Errorf("%d gone, changes %v, vanished %v", plan.GoneThings, plan.Changes, gone)
		}
		remove := func(id string) bool {
			_, done, err := w.policy.Apply([]policy.Change{{Op: policy.Remove, Type: policy.Devices, ID: id}})
			if err != nil {
				t.Fatal(err)
			}
			_, _, locked := w.known.Locked(done[0])
			return !locked
		}
		if remove("p-1") || !remove("p-2") {
			t.Error("what is in the list can be removed, or what is there no more cannot")
		}
		w.read("plant", plant, both)
		if n := w.known.Counts("plant"); n.Devices != 2 || len(w.known.Vanished("plant", policy.Devices)) != 0 {
			t.Errorf("it came back: %+v", n)
		}
	})
	t.Run("a list that lost most of what it held is held", func(t *testing.T) {
		w := works(t)
		var all []source.Thing
		for i := range 40 {
			all = append(all, device(fmt.Sprintf("P-%d", i), "Pump", ""))
		}
		w.read("plant", plant, &source.Held{Things: all})
		bring := plant
		for left, want := range map[int]bool{40: false, 37: false, 33: false, 31: true, 0: true} {
			if plan := source.Make(w.policy, w.known, "plant", &bring, &source.Held{Things: all[:left]}); plan.TooMany() != want {
				t.Errorf("%d of 40 are left: too many %v", left, plan.TooMany())
			}
		}
	})
	t.Run("what cannot be a record is told, and the others come", func(t *testing.T) {
		w := works(t)
		plan := w.read("plant", plant, &source.Held{Things: []source.Thing{
			{Type: policy.Sites, Outside: "S-9", Name: "Nowhere", Zone: "Nowhere/At all"}, {Type: policy.Devices, Outside: "D-1", Name: "Sonar", Kind: "sonar"}, {Type: policy.Sites, Outside: "loop", Name: "Loop", Site: "loop"},
			{Type: policy.Sites, Outside: "north", Name: "North", Site: "south"}, {Type: policy.Sites, Outside: "south", Name: "South", Site: "north"}, device("D-2", "Gauge", "S-9"),
		}})
		if !strings.Contains(told(plan), "is no zone") || !strings.Contains(told(plan), `no kind "sonar"`) || w.device("d-1") != "Sonar|||" || w.device("d-2") != "Gauge|||" {
			t.Errorf("%s: %s", w.device("d-1"), told(plan))
		}
	})
}
