package decision

import (
	"maps"
	"slices"
	"time"

	"sentier/internal/policy"
	"sentier/internal/schedule"
)

// clocks are the zones of all sites, and every schedule by the clock of each.
type clocks struct {
	zones     []*time.Location
	zoneOf    map[string]int
	schedules map[policy.ScheduleID]*Schedules
}

// Schedules is one schedule by the clocks of the zones in which it is judged.
type Schedules struct {
	Record *policy.Schedule
	Week   *Week                // nil where it is not the same every week
	byZone []*schedule.Timeline // by the number of the zone of the device's site
}

func compileClocks(p *policy.Policy) *clocks {
	names := map[string]bool{p.Settings().Zone: true}
	for s := range policy.Each[*policy.Site](p) {
		if s.Zone != "" {
			names[s.Zone] = true
		}
	}
	c := &clocks{zoneOf: map[string]int{}, schedules: map[policy.ScheduleID]*Schedules{}}
	for i, name := range slices.Sorted(maps.Keys(names)) {
		c.zones = append(c.zones, loadZone(name))
		c.zoneOf[name] = i
	}
	for s := range policy.Each[*policy.Schedule](p) {
		compiled := schedule.Compile(s, calendars(p))
		entry := &Schedules{Record: s, Week: weekOf(s), byZone: make([]*schedule.Timeline, len(c.zones))}
		if s.Zone == policy.SiteZone {
			for i, zone := range c.zones {
				entry.byZone[i] = compiled.In(zone)
			}
		} else {
			fixed := compiled.In(loadZone(s.Zone))
			for i := range c.zones {
				entry.byZone[i] = fixed
			}
		}
		c.schedules[s.ID] = entry
	}
	return c
}

func calendars(p *policy.Policy) func(policy.CalendarID) (*policy.Calendar, bool) {
	return func(id policy.CalendarID) (*policy.Calendar, bool) {
		return policy.Find[*policy.Calendar](p, string(id))
	}
}

// SiteZone is the zone of a site: its own, or that of the nearest ancestor that has one, then
// that of the settings.
func SiteZone(p *policy.Policy, id policy.SiteID) string {
	for id != "" {
		s, ok := policy.Find[*policy.Site](p, string(id))
		if !ok {
			break
		}
		if s.Zone != "" {
			return s.Zone
		}
		id = s.Parent
	}
	return p.Settings().Zone
}
