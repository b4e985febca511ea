package wording

import (
	"strconv"
	"strings"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// Advice puts an advice into words.
func (c Catalogue) Advice(p *policy.Policy, q decision.Question, a survey.Advice) string {
	grant := p.Title(policy.Grants, string(a.Grant))
	for _, change := range a.Changes { // a new one has its name in the change alone
		if change.Type == policy.Grants && change.ID == string(a.Grant) && change.Record != nil {
			grant = change.Record.Title()
		}
	}
	sentence := c.Say("advice."+string(a.Kind), "user", p.Title(policy.Users, string(q.User)), "device", p.Title(policy.Devices, string(q.Device)),
		"right", p.Title(policy.Rights, string(q.Right)), "group", p.Title(policy.UserGroups, string(a.Group)), "grant", grant,
		"line", strconv.Itoa(a.Line+1), "n", strconv.Itoa(len(a.Changes)))
	for i := len(a.First) - 1; i >= 0; i-- {
		sentence = c.Say("advice."+string(a.First[i]), "user", p.Title(policy.Users, string(q.User)), "device", p.Title(policy.Devices, string(q.Device))) + " " + sentence
	}
	if a.Else == 0 {
		return sentence + " " + c.Say("advice.else_none")
	}
	return sentence + " " + c.Say("advice.else", "rights", c.Counted("advice.other_rights", a.Else),
		"users", c.Counted("console.counted.people", a.Impact.Users), "devices", c.Counted("console.counted.devices", a.Impact.Devices))
}

// Loosened says how somebody could gain something by a removal.
func (c Catalogue) Loosened(list []policy.Loosening) string {
	out := make([]string, len(list))
	for i, l := range list {
		out[i] = c.Say("problem.loosened."+l.Why, "grant", l.Grant, "schedule", l.Schedule)
	}
	return strings.Join(out, "; ")
}

// Seen says how much a user reaches, or why it is nothing.
func (c Catalogue) Seen(u *policy.User, s wire.Seen) string {
	var groups []string
	for _, g := range s.Groups {
		groups = append(groups, g.Name)
	}
	totals := s.Reach.Totals
	key := "seen.some"
	switch {
	case s.Reach.Barred != "":
		return c.Say("reason."+s.Reach.Barred, "user", u.Title(), "from", c.Time(u.Valid.From, s.Reach.Zone), "until", c.Time(u.Valid.Until, s.Reach.Zone))
	case s.Reach.Total == 0 && len(groups) == 0:
		key = "seen.no_group"
	case s.Reach.Total == 0:
		key = "seen.nothing"
	case totals.Later+totals.If == 0:
		key = "seen.now"
	case totals.Now == 0:
		key = "seen.not_now"
	}
	return c.Say(key, "user", u.Title(), "now", strconv.Itoa(totals.Now), "later", strconv.Itoa(totals.Later), "if", strconv.Itoa(totals.If), "groups", strings.Join(groups, ", "))
}
