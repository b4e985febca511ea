package source

import (
	"cmp"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"sentier/internal/policy"
)

// Thing is a device or a site as a list elsewhere has it. What is empty is not said.
type Thing struct {
	Type    policy.Type // devices or sites
	Outside string      // the id there
	Line    int
	Name    string
	Kind    string // of a device: id or name
	Site    string // the site it is at, or that a site is part of: its id there, or the id or name of one of ours
	Zone    string // of a site
	Address string
	Tags    []string
}

// place is where a thing stands, for people.
func (t *Thing) place() string { return fmt.Sprintf("line %d, %s", t.Line, policy.Clip(t.Outside)) }

// things finds which devices and sites come, are other than before, and are there no more. Sites come first, as devices stand at them.
func (w *planner) things() {
	if !w.settings.Things {
		return
	}
	w.made, w.taken, w.withSites = map[thing]string{}, map[record]bool{}, w.policy
	for _, t := range []policy.Type{policy.Sites, policy.Devices} {
		seen := map[string]bool{}
		var mine []*Thing
		for i := range w.held.Things {
			if x := &w.held.Things[i]; x.Type == t {
				seen[x.Outside] = true
				if id := w.recordOf(x); id != "" {
					w.made[thing{w.source, t, x.Outside}] = id
					mine = append(mine, x)
				}
			}
		}
		w.ThingsRead += len(seen)
		outermostFirst(mine)
		for _, x := range mine {
			at := thing{w.source, t, x.Outside}
			if w.thing(x, w.made[at]); t == policy.Sites {
				if _, came := w.sites().Get(t, w.made[at]); !came { // nothing can stand there
					delete(w.made, at)
				}
			}
		}
		for _, o := range w.known.things(w.source, t) {
			_, there := w.policy.Get(t, o.Record)
			switch {
			case !there:
				w.Lost = append(w.Lost, o)
			case seen[o.Outside]:
				if !o.Gone {
					w.ThingsBefore++
				}
			case !o.Gone:
				w.ThingsBefore++
				w.GoneThings++
				o.Gone = true
				w.Origins = append(w.Origins, o)
			}
		}
	}
}

// outermostFirst orders sites so that each comes after the one that it is part of. Those that are part of themselves come last.
func outermostFirst(list []*Thing) {
	byOutside := map[string]*Thing{}
	for _, x := range list {
		if x.Type == policy.Sites {
			byOutside[x.Outside] = x
		}
	}
	depth := func(x *Thing) (n int) {
		for at := byOutside[x.Site]; x.Type == policy.Sites && at != nil && n <= len(list); at = byOutside[at.Site] {
			n++
		}
		return n
	}
	slices.SortStableFunc(list, func(a, b *Thing) int { return cmp.Compare(depth(a), depth(b)) })
}

// recordOf is the id of the record that stands for a thing, or will; empty: it cannot come, and that is told.
func (w *planner) recordOf(x *Thing) string {
	if id, ok := w.known.Stands(w.source, x.Type, x.Outside); ok {
		if _, there := w.policy.Get(x.Type, id); there {
			return id
		}
	}
	id := w.settings.Links[x.Outside]
	linked := id != ""
	if !linked {
		if id = UserID(x.Outside); id == "" {
			id = policy.MakeID(cmp.Or(x.Name, x.Outside), func(id string) bool {
				_, taken := w.policy.Get(x.Type, id)
				return taken || w.taken[record{x.Type, id}]
			})
		}
	}
	r, there := w.policy.Get(x.Type, id)
	o, kept := w.known.Origin(x.Type, id)
	switch {
	case linked && !there:
		w.tell(x.place(), "it is linked to %q, which is not there", id)
		return ""
	case there && kept:
		w.tell(x.place(), "%s is kept by %s as another thing", r.Title(), w.known.Name(o.Source))
		return ""
	case there && !linked && !w.settings.Same:
		w.tell(x.place(), "%s is here already under that id: let those of one id be the same, or link it", r.Title())
		return ""
	case w.taken[record{x.Type, id}]:
		w.tell(x.place(), "%q would be the id of two things", id)
		return ""
	}
	w.taken[record{x.Type, id}] = true
	return id
}

// thing finds what of a record is other there than here.
func (w *planner) thing(x *Thing, id string) {
	var says []string // the fields that the source keeps
	say := func(field string, said bool) bool {
		if said {
			says = append(says, field)
		}
		return said
	}
	before, there := w.policy.Get(x.Type, id)
	var next policy.Record
	if x.Type == policy.Sites {
		s := policy.Site{ID: policy.SiteID(id), Name: cmp.Or(x.Name, x.Outside)}
		if there {
			s = *before.(*policy.Site)
		}
		if say("name", x.Name != "") {
			s.Name = x.Name
		}
		if at := w.siteOf(x); say("parent", at != "" && at != id) {
			s.Parent = policy.SiteID(at)
		}
		if say("zone", x.Zone != "") {
			s.Zone = x.Zone
		}
		next = &s
	} else {
		d := policy.Device{ID: policy.DeviceID(id), Name: cmp.Or(x.Name, x.Outside)}
		if there {
			d = *before.(*policy.Device)
		}
		if say("name", x.Name != "") {
			d.Name = x.Name
		}
		if kind := w.kindOf(x); say("kind", kind != "") {
			d.Kind = policy.KindID(kind)
		}
		if at := w.siteOf(x); say("site", at != "") {
			d.Site = policy.SiteID(at)
		}
		if say("address", x.Address != "") {
			d.Address = x.Address
		}
		if say("tags", len(x.Tags) > 0) {
			d.Tags = x.Tags
		}
		next = &d
	}
	if !there || !reflect.DeepEqual(before, next) {
		if !w.sound(x.place(), w.sites(), next) {
			return
		}
		change := policy.Change{Op: policy.Put, Type: x.Type, ID: id, Record: next}
		w.Changes = append(w.Changes, change)
		if x.Type == policy.Sites {
			w.newSites = append(w.newSites, change)
		}
		if there {
			w.ChangedThings++
		} else {
			w.NewThings++
		}
	}
	told, err := json.Marshal(says)
	if err != nil { // of texts: never
		told = nil
	}
	o, known := w.known.Origin(x.Type, id)
	if !known || o.Gone || o.Told != string(told) || o.Outside != x.Outside {
		w.Origins = append(w.Origins, Origin{Source: w.source, Type: x.Type, Outside: x.Outside, Record: id, Place: x.place(), Told: string(told)})
	}
}

// sites are the policy with those sites that come, which devices may name.
func (w *planner) sites() *policy.Policy {
	if len(w.newSites) > 0 {
		next, _, err := w.withSites.Apply(w.newSites)
		if err == nil { // each was sound by itself; together they are looked at when the change is made
			w.withSites = next
		}
		w.newSites = nil
	}
	return w.withSites
}

// siteOf is the site that a thing names: one of the source, or one of ours by its id or name; empty: none, and that is told where it names one.
func (w *planner) siteOf(x *Thing) string {
	if x.Site == "" {
		return ""
	}
	if id, ok := w.made[thing{w.source, policy.Sites, x.Site}]; ok {
		if _, came := w.sites().Get(policy.Sites, id); came {
			return id
		}
		w.tell(x.place(), "the site %q is part of this one, or cannot come", policy.Clip(x.Site))
		return ""
	}
	if id := w.named(policy.Sites, x.Site); id != "" {
		return id
	}
	w.tell(x.place(), "there is no site %q: it stays unsorted", policy.Clip(x.Site))
	return ""
}

// kindOf is the kind that a device names; empty: none, and that is told where it names one.
func (w *planner) kindOf(x *Thing) string {
	if x.Kind == "" {
		return ""
	}
	if id := w.named(policy.Kinds, x.Kind); id != "" {
		return id
	}
	w.tell(x.place(), "there is no kind %q: it comes without one", policy.Clip(x.Kind))
	return ""
}

// named is the one record of a type with an id or a name; empty: none, or several.
func (w *planner) named(t policy.Type, name string) string {
	if w.names == nil {
		w.names = map[policy.Type]map[string][]string{}
	}
	if w.names[t] == nil {
		w.names[t] = map[string][]string{}
		for r := range w.policy.Table(t).All() {
			for _, key := range []string{r.Key(), policy.FoldName(r.Title())} {
				if list := w.names[t][key]; !slices.Contains(list, r.Key()) {
					w.names[t][key] = append(list, r.Key())
				}
			}
		}
	}
	if list := w.names[t][strings.ToLower(name)]; len(list) == 1 {
		return list[0]
	}
	if list := w.names[t][policy.FoldName(name)]; len(list) == 1 {
		return list[0]
	}
	return ""
}
