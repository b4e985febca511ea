package answers

import (
	"maps"
	"slices"
	"time"

	"sentier/internal/authority"
	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/schedule"
	"sentier/internal/service"
	"sentier/internal/survey"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// PreviewSchedule tells how a schedule, saved or not, will run.
func (s Service) PreviewSchedule(c service.Caller, q wire.ScheduleQuestion) (wire.Fortnight, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return wire.Fortnight{}, err
	}
	r, err := sound(st.Policy, &q.Schedule)
	if err != nil {
		return wire.Fortnight{}, err
	}
	zones := map[string]bool{st.Policy.Settings().Zone: true}
	v := s.View(st, c)
	for site := range policy.Each[*policy.Site](st.Policy) {
		if !v.Site(site.ID) {
			continue
		}
		zones[decision.SiteZone(st.Policy, site.ID)] = true
	}
	out := wire.Fortnight{Zone: q.Zone, Zones: slices.Sorted(maps.Keys(zones)), Stretches: []wire.Stretch{}}
	record := r.(*policy.Schedule)
	if out.Zone == "" {
		out.Zone = st.Policy.Settings().Zone
		if record.Zone != policy.SiteZone {
			out.Zone = record.Zone
		}
	}
	loc, days, err := s.days(q.From, out.Zone, q.Days, 14)
	if err != nil {
		return out, err
	}
	out.Days = days
	judged := loc
	if record.Zone != policy.SiteZone {
		if judged, err = policy.LoadZone(record.Zone); err != nil {
			return out, err
		}
	}
	compiled := schedule.Compile(record, func(id policy.CalendarID) (*policy.Calendar, bool) {
		return policy.Find[*policy.Calendar](st.Policy, string(id))
	})
	compiled.Openings(judged, days[0].From.Unix(), days[len(days)-1].Until.Unix(), func(o schedule.Opening) bool {
		out.Stretches = append(out.Stretches, wire.Stretch{From: time.Unix(o.From, 0).UTC(), Until: time.Unix(o.Until, 0).UTC(), Allowed: true})
		return true
	})
	return out, nil
}

// sound gives a record in its normal form, or its faults.
func sound(p *policy.Policy, r policy.Record) (policy.Record, error) {
	const nobody = "preview"
	switch r := r.(type) {
	case *policy.Schedule:
		r.ID, r.Name = nobody, ""
	case *policy.DeviceGroup:
		r.ID, r.Name = nobody, ""
	}
	next, _, err := p.Apply([]policy.Change{{Op: policy.Put, Type: r.Type(), ID: nobody, Record: r}})
	if err != nil {
		return nil, err
	}
	out, _ := next.Get(r.Type(), nobody)
	return out, nil
}

// PreviewMatch tells which devices a match, saved or not, selects.
func (s Service) PreviewMatch(c service.Caller, m wire.MatchQuestion) (wire.Matched, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return wire.Matched{}, err
	}
	r, err := sound(st.Policy, &policy.DeviceGroup{Match: &m})
	if err != nil {
		return wire.Matched{}, err
	}
	out := wire.Matched{Items: []wire.Named{}}
	v := s.View(st, c)
	for d := range st.Compiled.Matching(r.(*policy.DeviceGroup).Match) {
		if !v.Sees(d) {
			continue
		}
		if out.Total++; len(out.Items) < service.MostItems {
			out.Items = append(out.Items, wire.Named{ID: string(d.ID), Name: d.Title()})
		}
	}
	return out, nil
}

// longestTime is how many bytes a time in words has at most.
const longestTime = 100

// ReadTime tells which instant somebody means by a text, and by whose clock it was read.
func (s Service) ReadTime(c service.Caller, in wire.TimeQuestion) (wire.Time, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return wire.Time{}, err
	}
	zone := in.Zone
	if zone == "" {
		site := policy.SiteID(in.Site)
		v := s.View(st, c)
		if d, ok := policy.Find[*policy.Device](st.Policy, in.Device); ok {
			site = d.Site
		}
		if !v.Site(site) { // not even by which clock it goes
			site = ""
		}
		zone = decision.SiteZone(st.Policy, site)
	}
	loc, err := policy.LoadZone(zone)
	if err != nil {
		return wire.Time{}, service.Wrong("zone", "%v", err)
	}
	out := wire.Time{Zone: zone}
	if in.Text == "" {
		return out, nil
	}
	if len(in.Text) > longestTime {
		return out, service.Wrong("text", "is longer than %d characters", longestTime)
	}
	at, err := document.ParseInstant(in.Text, s.Now(), loc)
	if err != nil {
		return out, service.Wrong("text", "%v", err)
	}
	out.At = &at
	return out, nil
}

// Advise tells what would turn an answer.
func (s Service) Advise(c service.Caller, in wire.AdviceQuestion) (wire.Advice, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return wire.Advice{}, err
	}
	q, err := translate.Question(st.Policy, wire.Check{User: in.User, Right: in.Right, Device: in.Device, At: in.At, Context: in.Context}, s.Now())
	if err != nil {
		return wire.Advice{}, err
	}
	var until time.Time
	if in.Until != "" {
		if until, err = policy.ParseInstant(in.Until); err != nil {
			return wire.Advice{}, service.Wrong("until", "%q %v", in.Until, err)
		}
		if !until.After(q.At) {
			return wire.Advice{}, service.Wrong("until", "is past at the time of the question: give a later end, or none")
		}
	}
	if s.beyond(st, c, q.Device) {
		return wire.Advice{}, service.ErrNotFound
	}
	return advice(st.Compiled, q, until, wording.Accepted(c.Language), s.Rights(st, c), s.View(st, c))
}

// mostAdvice is how many changes are advised.
const mostAdvice = 5

// advice finds what would turn an answer, in words.
func advice(c *decision.Compiled, q decision.Question, until time.Time, words wording.Catalogue, may authority.Rights, v authority.View) (wire.Advice, error) {
	out := wire.Advice{Allowed: c.Decide(&q).Allowed, Items: []wire.Advise{}}
	for _, a := range survey.Of(c).Advise(q, until, mostAdvice) {
		next, done, err := c.Policy().Apply(a.Changes)
		if err != nil {
			return out, err
		}
		if !v.Whole() {
			if may.Change(c.Policy(), next, done) != nil {
				continue // what they could not do is no advice
			}
			a.Tell(survey.Compare(c, c.Next(next, done), done, survey.Circumstances{At: q.At, Context: q.Context, Sites: v.Sites()}, service.MostItems))
		}
		item := wire.Advise{Kind: string(a.Kind), Else: a.Else, Impact: *words.Impact(c.Policy(), a.Impact, q.At), Changes: translate.Changes(done), Edits: a.Changes}
		item.Text = words.Advice(c.Policy(), q, a)
		out.Items = append(out.Items, item)
	}
	return out, nil
}
