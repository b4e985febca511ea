package wording

import (
	"slices"
	"strings"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// Answer puts an answer into words: the text, the trails and why each stop holds or breaks.
func (c Catalogue) Answer(p *policy.Policy, q decision.Question, a decision.Answer) wire.Answer {
	s := sayer{c: c, p: p, a: a}
	s.user, _ = policy.Find[*policy.User](p, string(q.User))
	s.device, _ = policy.Find[*policy.Device](p, string(q.Device))
	out := s.answer(q)
	out.Near = s.near(q)
	out.Text = s.text(out, q)
	return out
}

// answer is all of an answer but its text.
func (s sayer) answer(q decision.Question) wire.Answer {
	a := s.a
	right := wire.Named{ID: string(q.Right), Name: string(q.Right)}
	if !s.hides {
		right.Name = s.name(policy.Rights, right.ID)
	}
	out := wire.Answer{
		Allowed: a.Allowed, Reason: a.Reason.String(), At: a.At, Zone: a.Zone, Limits: a.Limits,
		Because: []wire.Trail{}, Missing: []wire.Trail{},
		User:   s.who(q),
		Right:  right,
		Device: s.resource(q),
	}
	if !a.Until.IsZero() {
		out.Until = &a.Until
	}
	for _, t := range a.Because {
		out.Because = append(out.Because, s.trail(t, q))
	}
	for _, t := range a.Missing {
		out.Missing = append(out.Missing, s.trail(t, q))
	}
	return out
}

// OwnAnswer is [Catalogue.Answer] for whoever asks about themself without a mandate; a is what [decision.Compiled.Own] left of it. Nothing
// is named that is not their own, but for those whom they can ask.
func (c Catalogue) OwnAnswer(p *policy.Policy, q decision.Question, a decision.Answer, concerned bool, whom []wire.Named) wire.Answer {
	s := sayer{c: c, p: p, a: a, hides: !concerned}
	s.user, _ = policy.Find[*policy.User](p, string(q.User))
	if concerned {
		s.device, _ = policy.Find[*policy.Device](p, string(q.Device))
	}
	out := s.answer(q)
	out.Near, out.Whom = nil, whom
	out.Text = s.text(out, q)
	if !out.Allowed && len(whom) > 0 {
		names := make([]string, len(whom))
		for i, w := range whom {
			names[i] = w.Name
		}
		out.Text += " " + c.Say("answer.whom", "names", strings.Join(names, ", "))
	}
	return out
}

type sayer struct {
	c Catalogue
	p *policy.Policy
	a decision.Answer

	user   *policy.User   // nil: unknown, or a group was asked about
	device *policy.Device // nil: unknown
	hides  bool           // whether what is asked about is there at all
}

func (s sayer) name(t policy.Type, id string) string { return s.p.Title(t, id) }

// who asks: a user, or somebody in a group.
func (s sayer) who(q decision.Question) wire.Named {
	if id := string(s.a.Group); id != "" {
		return wire.Named{ID: id, Name: s.c.Say("answer.member_of", "group", s.name(policy.UserGroups, id))}
	}
	return wire.Named{ID: string(q.User), Name: s.name(policy.Users, string(q.User))}
}

func (s sayer) time(t time.Time) string { return s.c.Time(t, s.a.Zone) }

func (s sayer) resource(q decision.Question) wire.Named {
	n := wire.Named{ID: string(q.Device), Name: string(q.Device)}
	if !s.hides {
		n.Name = s.name(policy.Devices, n.ID)
	}
	if q.Point == "" {
		return n
	}
	n.ID += "/" + string(q.Point)
	point := string(q.Point)
	if s.device != nil {
		for _, have := range s.device.Points {
			if have.ID == q.Point && have.Name != "" {
				point = have.Name
			}
		}
	}
	n.Name += " / " + point
	return n
}

// near lists known ids near to the one that is not known.
func (s sayer) near(q decision.Question) []string {
	var t policy.Type
	var id string
	switch s.a.Reason {
	case decision.UnknownUser:
		t, id = policy.Users, string(q.User)
	case decision.UnknownDevice:
		t, id = policy.Devices, string(q.Device)
	case decision.UnknownRight:
		t, id = policy.Rights, string(q.Right)
	case decision.UnknownPoint:
		var points []string
		for _, p := range s.device.Points {
			points = append(points, string(q.Device)+"/"+string(p.ID))
		}
		return points
	default:
		return nil
	}
	return s.p.Near(t, id)
}

// text is the answer in words: the verdict, why, and until when.
func (s sayer) text(out wire.Answer, q decision.Question) string {
	verdict := "answer.no"
	if out.Allowed {
		verdict = "answer.yes"
	}
	parts := []string{s.c.Say(verdict, "user", out.User.Name, "right", out.Right.Name, "device", out.Device.Name), s.why(out, q)}
	switch {
	case len(out.Near) > 0:
		parts = append(parts, s.c.Say("answer.near", "ids", strings.Join(out.Near, ", ")))
	case s.a.Reason <= decision.UnknownRight:
	case out.Until != nil:
		parts = append(parts, s.c.Say("answer.until", "time", s.time(*out.Until)))
	default:
		parts = append(parts, s.c.Say("answer.never"))
	}
	return strings.Join(parts, " ")
}

func (s sayer) why(out wire.Answer, q decision.Question) string {
	switch s.a.Reason {
	case decision.OutsideSchedule, decision.ConditionNotMet, decision.GrantNotInForce, decision.RightNotGranted:
		return out.Missing[0].Text
	case decision.Granted, decision.Denied:
		return out.Because[0].Text
	case decision.DeviceLockedOut:
		l, by, why := s.a.Lockout, "", s.c.Say("lockout.none")
		if l.By != "" {
			by = s.c.Say("lockout.by", "by", s.name(policy.Users, l.By))
		}
		if l.Reason != "" {
			why = strings.TrimSuffix(l.Reason, ".") + "."
		}
		return s.c.Say("reason.device_locked_out", "device", out.Device.Name, "by", by, "why", why)
	}
	var from, until, kind string
	if s.user != nil {
		from, until = s.time(s.user.Valid.From), s.time(s.user.Valid.Until)
	}
	if s.device != nil {
		kind = s.name(policy.Kinds, string(s.device.Kind))
	}
	sentence := s.c.Say("reason."+s.a.Reason.String(), "user", out.User.Name, "right", out.Right.Name,
		"device", out.Device.Name, "point", string(q.Point), "kind", kind, "from", from, "until", until)
	if len(out.Missing) > 0 {
		sentence += " " + out.Missing[0].Text
	}
	return sentence
}

// trail draws the stops of a trail: up to the first that breaks they hold, what comes after lies beyond it.
func (s sayer) trail(t decision.Trail, q decision.Question) wire.Trail {
	out := wire.Trail{Grant: string(t.Grant.ID), Line: t.Line, Effect: string(t.Grant.Effect)}
	if s.a.Group == "" { // else the group is the first stop
		out.Stops = append(out.Stops, wire.Stop{Type: "users", ID: string(q.User), Name: s.name(policy.Users, string(q.User)),
			State: "holds", Text: s.c.Say("stop.user")})
	}
	out.Stops = append(out.Stops, s.way(t)...)
	out.Stops = append(out.Stops, s.grant(t))
	out.Stops = append(out.Stops, s.cover(t, q)...)
	out.Stops = append(out.Stops, s.times(t)...)
	out.Stops = append(out.Stops, s.conditions(t)...)
	if t.Covers.Type != policy.Devices {
		device := s.resource(q)
		out.Stops = append(out.Stops, wire.Stop{Type: "devices", ID: device.ID, Name: device.Name, State: "holds", Text: s.c.Say("stop.device")})
	}
	ended := false
	for i := range out.Stops {
		stop := &out.Stops[i]
		// The schedules of a line are alternatives: where all are closed, it breaks at each.
		alternative := i > 0 && stop.Type == "schedules" && out.Stops[i-1].Type == "schedules" && out.Stops[i-1].State == "breaks"
		if ended && !alternative {
			stop.State = "beyond"
		}
		ended = ended || stop.State == "breaks" || stop.State == "closes" && len(t.Misses) > 0
	}
	out.Text = s.lacks(t)
	return out
}

func (s sayer) way(t decision.Trail) []wire.Stop {
	switch t.Via {
	case decision.ViaUser:
		return nil
	case decision.ViaEveryone:
		return []wire.Stop{{Type: "everyone", Name: s.c.Say("stop.everyone"), State: "holds", Text: s.c.Say("stop.everyone_text")}}
	}
	var out []wire.Stop
	for i, id := range t.Membership.Groups {
		stop := wire.Stop{Type: "user_groups", ID: string(id), Name: s.name(policy.UserGroups, string(id)), State: "holds"}
		switch {
		case i > 0:
			stop.Text = s.c.Say("stop.included")
		case t.Via == decision.Stranger:
			stop.State, stop.Text = "breaks", s.stranger(id, t.Membership.Span)
		case !t.Membership.Span.Until.IsZero():
			stop.Text = s.c.Say("stop.member_until", "time", s.time(t.Membership.Span.Until))
		default:
			stop.Text = s.c.Say("stop.member")
		}
		out = append(out, stop)
	}
	if t.Via == decision.Stranger && len(out) == 0 {
		out = append(out, wire.Stop{Type: "everyone", Name: s.c.Say("stop.stranger_user"), State: "breaks", Text: s.c.Say("stop.stranger_user")})
	}
	return out
}

func (s sayer) stranger(id policy.UserGroupID, span policy.Span) string {
	g, ok := policy.Find[*policy.UserGroup](s.p, string(id))
	switch {
	case ok && g.Enabled == policy.Off:
		return s.c.Say("stop.group_disabled")
	case !span.Until.IsZero() && !s.a.At.Before(span.Until):
		return s.c.Say("stop.member_ended", "time", s.time(span.Until))
	case !span.From.IsZero() && s.a.At.Before(span.From):
		return s.c.Say("stop.member_begins", "time", s.time(span.From))
	}
	return s.c.Say("stop.stranger")
}

func (s sayer) grant(t decision.Trail) wire.Stop {
	stop := wire.Stop{Type: "grants", ID: string(t.Grant.ID), Name: t.Grant.Title(), State: "holds"}
	rights := s.rights(t)
	force, when := s.force(t.Grant)
	switch {
	case slices.Contains(t.Misses, decision.GrantNotInForce):
		stop.State, stop.Text = "breaks", s.c.Say("stop."+force, "time", when)
	case t.Grant.Effect == policy.Deny:
		stop.State, stop.Text = "closes", s.c.Say("stop.denies", "rights", rights)
	case !t.Right:
		stop.State, stop.Text = "breaks", s.c.Say("stop.gives_only", "rights", rights)
	default:
		stop.Text = s.c.Say("stop.gives", "rights", rights)
	}
	return stop
}

// force tells why a grant is not in force: disabled, ended or begins, and when.
func (s sayer) force(g *policy.Grant) (what, when string) {
	switch {
	case g.Enabled == policy.Off:
		return "disabled", ""
	case !g.Valid.From.IsZero() && s.a.At.Before(g.Valid.From):
		return "begins", s.time(g.Valid.From)
	case !g.Valid.Until.IsZero():
		return "ended", s.time(g.Valid.Until)
	}
	return "", ""
}

func (s sayer) rights(t decision.Trail) string {
	l := t.Grant.Lines[t.Line]
	var names []string
	for _, id := range l.Roles {
		names = append(names, s.name(policy.Roles, string(id)))
	}
	for _, id := range l.Rights {
		names = append(names, s.name(policy.Rights, string(id)))
	}
	return strings.Join(names, ", ")
}

func (s sayer) cover(t decision.Trail, q decision.Question) []wire.Stop {
	if t.Covers.Type == policy.SettingsType {
		return []wire.Stop{{Type: "everything", Name: s.c.Say("stop.everything"), State: "holds", Text: s.c.Say("stop.everything_text")}}
	}
	if t.Covers.Type == policy.Devices {
		text := s.c.Say("stop.device")
		if t.Covers.Point != "" {
			text = s.c.Say("stop.point")
		}
		device := s.resource(q)
		return []wire.Stop{{Type: "devices", ID: device.ID, Name: device.Name, State: "holds", Text: text}}
	}
	var out []wire.Stop
	for i, id := range t.Covers.Chain {
		key := map[policy.Type]string{policy.Sites: "stop.site", policy.DeviceGroups: "stop.device_group"}[t.Covers.Type]
		switch {
		case i > 0:
			key += "_below"
		case t.Covers.Match:
			key += "_match"
		}
		out = append(out, wire.Stop{Type: t.Covers.Type.String(), ID: id, Name: s.name(t.Covers.Type, id), State: "holds", Text: s.c.Say(key)})
	}
	slices.Reverse(out) // from what the grant names down to the device
	return out
}

// times shows the schedules of a line; where one is open, only the open ones bear on it.
func (s sayer) times(t decision.Trail) []wire.Stop {
	var out []wire.Stop
	closed := slices.Contains(t.Misses, decision.OutsideSchedule)
	times := slices.Clone(t.Times)
	slices.SortStableFunc(times, func(a, b decision.Time) int {
		if a.Until.IsZero() || b.Until.IsZero() {
			return b.Until.Compare(a.Until) // what never changes comes last
		}
		return a.Until.Compare(b.Until)
	})
	for _, w := range times {
		if !closed && !w.Open {
			continue
		}
		key := map[bool]string{true: "stop.open", false: "stop.closed"}[w.Open]
		stop := wire.Stop{Type: "schedules", ID: string(w.Schedule.ID), Name: w.Schedule.Title(), State: "holds"}
		if !w.Until.IsZero() {
			stop.Text = s.c.Say(key+"_until", "time", s.c.Time(w.Until, w.Zone))
		} else {
			stop.Text = s.c.Say(key)
		}
		if !w.Open {
			stop.State = "breaks"
		}
		out = append(out, stop)
	}
	return out
}

func (s sayer) conditions(t decision.Trail) []wire.Stop {
	var out []wire.Stop
	for _, c := range t.Conditions {
		stop := wire.Stop{Type: "condition", Name: s.condition(c), State: "holds", Text: s.c.Say("stop.condition_met")}
		if !c.Met {
			have := s.c.Say("condition.unknown")
			if c.Known {
				have = s.c.Say("condition.is", "have", s.named(c, c.Have))
			}
			stop.State, stop.Text = "breaks", s.c.Say("stop.condition_missed", "have", have)
		}
		out = append(out, stop)
	}
	return out
}

func (s sayer) condition(c decision.Condition) string {
	key := "condition." + c.Name
	if len(c.Want) > 0 && !s.c.Has(key) {
		key += "_" + c.Want[0]
	}
	want := make([]string, len(c.Want))
	for i, text := range c.Want {
		want[i] = s.named(c, text)
	}
	return s.c.Say(key, "want", strings.Join(want, ", "))
}

// named is what people call what a condition names.
func (s sayer) named(c decision.Condition, text string) string {
	if c.Name == "places" {
		return s.p.Title(policy.Sites, text)
	}
	return text
}

// lacks says in one sentence what the first miss of a trail is, and that there are more.
func (s sayer) lacks(t decision.Trail) string {
	grant := s.c.Say("quoted", "name", t.Grant.Title())
	if len(t.Misses) == 0 {
		key := "reason.granted"
		if t.Grant.Effect == policy.Deny {
			key = "reason.denied"
		}
		return s.c.Say(key, "grant", grant)
	}
	var first string
	switch t.Misses[0] {
	case decision.OutsideSchedule:
		first = s.closed(t, grant)
	case decision.ConditionNotMet:
		for _, c := range t.Conditions {
			if !c.Met {
				first = s.c.Say("missing.condition_not_met", "grant", grant, "condition", s.condition(c))
				break
			}
		}
	case decision.GrantNotInForce:
		force, when := s.force(t.Grant)
		first = s.c.Say("missing.grant_"+force, "grant", grant, "time", when)
	case decision.RightNotGranted:
		first = s.c.Say("missing.right_not_granted", "grant", grant, "rights", s.rights(t))
	case decision.NoGrant:
		first = s.c.Say("missing.no_grant_users", "grant", grant)
		if len(t.Membership.Groups) > 0 {
			first = s.c.Say("missing.no_grant", "grant", grant, "group", s.name(policy.UserGroups, string(t.Membership.Groups[0])))
		}
	}
	if len(t.Misses) == 1 {
		return first
	}
	var codes []string
	for _, m := range t.Misses[1:] {
		codes = append(codes, s.c.Say("code."+m.String()))
	}
	return s.c.Say("missing.more", "first", first, "codes", strings.Join(codes, ", "))
}

// closed names the schedule of a line that opens first.
func (s sayer) closed(t decision.Trail, grant string) string {
	best := t.Times[0]
	for _, w := range t.Times[1:] {
		if best.Until.IsZero() || !w.Until.IsZero() && w.Until.Before(best.Until) {
			best = w
		}
	}
	name := s.c.Say("quoted", "name", best.Schedule.Title())
	if best.Until.IsZero() {
		return s.c.Say("missing.outside_schedule_never", "grant", grant, "schedule", name)
	}
	return s.c.Say("missing.outside_schedule", "grant", grant, "schedule", name, "time", s.c.Time(best.Until, best.Zone))
}
