package answers

import (
	"cmp"
	"context"
	"fmt"
	"strings"
	"time"

	"sentier/internal/icalendar"
	"sentier/internal/policy"
	"sentier/internal/schedule"
	"sentier/internal/service"
	"sentier/internal/survey"
	"sentier/internal/wording"
)

// How far ahead feeds tell.
const (
	feedAhead  = 400 * 24 * time.Hour
	reachAhead = 60 * 24 * time.Hour
	feedShown  = 30 // devices of one entry
)

// Feed is the calendar that has a secret, as it is now; turn waits for a turn, once it is known that there is one. The error is [service.ErrNotFound] where there is none.
func (s Service) Feed(ctx context.Context, secret string, turn func() error) ([]byte, error) {
	f, c, err := s.FeedOf(secret)
	if err != nil {
		return nil, err
	}
	if err := turn(); err != nil {
		return nil, err
	}
	kept, err := s.Preferences(ctx, c)
	if err != nil {
		return nil, err
	}
	words, now := wording.Accepted(kept.Language), s.Now().Truncate(time.Second)
	p := s.State().Policy
	zone, err := policy.LoadZone(cmp.Or(f.Zone, p.Settings().Zone, "UTC"))
	if err != nil {
		return nil, err
	}
	var entries []icalendar.Entry
	name, about := words.Say("feed."+f.Kind), ""
	switch f.Kind {
	case service.FeedSchedule:
		r, ok := policy.Find[*policy.Schedule](p, f.Of)
		if !ok {
			return nil, service.ErrNotFound
		}
		if r.Zone != policy.SiteZone && r.Zone != "" {
			if zone, err = policy.LoadZone(r.Zone); err != nil {
				return nil, err
			}
		}
		name, about = r.Title(), words.Say("feed.by_clock", "zone", zone.String())
		entries = openings(p, r, zone, now)
	case service.FeedReach:
		name = words.Say("feed.reach_of", "name", p.Title(policy.Users, f.Of))
		about = words.Say("feed.reach_about")
		entries = s.hours(policy.UserID(f.Of), beginning(now, zone))
	case service.FeedEnds:
		for _, e := range service.Endings(p, s.View(s.State(), c).Sees, now, now.Add(feedAhead)) {
			text := ""
			switch e.Kind {
			case "membership":
				text = words.Say("feed.ends_membership", "user", e.User.Name, "group", e.Group.Name)
			case "account":
				text = words.Say("feed.ends_account", "user", e.User.Name)
			case "grant":
				text = words.Say("feed.ends_grant", "grant", e.Grant.Name)
			}
			entries = append(entries, icalendar.Entry{UID: fmt.Sprintf("%s-%d@sentier", strings.ReplaceAll(text, " ", "-"), e.At.Unix()), Name: text, From: e.At, Until: e.At})
		}
	}
	return icalendar.Write(name, about, entries, now), nil
}

// openings are the times at which a schedule is open, from the beginning of the day on.
func openings(p *policy.Policy, r *policy.Schedule, zone *time.Location, now time.Time) (out []icalendar.Entry) {
	compiled := schedule.Compile(r, func(id policy.CalendarID) (*policy.Calendar, bool) {
		return policy.Find[*policy.Calendar](p, string(id))
	})
	compiled.Openings(zone, beginning(now, zone).Unix(), now.Add(feedAhead).Unix(), func(o schedule.Opening) bool {
		out = append(out, icalendar.Entry{UID: fmt.Sprintf("schedule-%s-%d@sentier", r.ID, o.From), Name: r.Title(), From: time.Unix(o.From, 0), Until: time.Unix(o.Until, 0)})
		return true
	})
	return out
}

// beginning is that of the day, so that what has begun keeps its name for as long as it lasts.
func beginning(now time.Time, zone *time.Location) time.Time {
	from, _, _ := schedule.Day(policy.DateOf(now.In(zone)), zone)
	return from
}

// hours are the times at which somebody may do what.
func (s Service) hours(user policy.UserID, from time.Time) (out []icalendar.Entry) {
	st := s.State()
	for _, h := range survey.Of(st.Compiled).Hours(user, from, from.Add(reachAhead), feedShown) {
		var rights, devices []string
		for _, r := range h.Rights {
			rights = append(rights, st.Policy.Title(policy.Rights, string(r)))
		}
		for _, d := range h.Devices {
			title := st.Policy.Title(policy.Devices, string(d.ID))
			if d.Point != "" {
				title += " / " + string(d.Point)
			}
			devices = append(devices, title)
		}
		name := devices[0]
		if h.Total > 1 {
			name += fmt.Sprintf(" + %d", h.Total-1)
		}
		about := strings.Join(devices, "\n")
		if h.Total > len(devices) {
			about += fmt.Sprintf("\n… + %d", h.Total-len(devices))
		}
		for _, o := range h.Open {
			out = append(out, icalendar.Entry{UID: fmt.Sprintf("reach-%s-%s-%s-%d@sentier", user, h.Devices[0].Key(), h.Rights[0], o.From.Unix()), Name: strings.Join(rights, ", ") + ": " + name, About: about, From: o.From, Until: o.Until})
		}
	}
	return out
}
