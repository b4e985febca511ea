package wording

import (
	"slices"
	"strconv"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// Unmet puts into words which expectations of a policy do not hold, and the line or the lack that breaks each.
func (c Catalogue) Unmet(of *decision.Compiled, list []survey.Break) []wire.Unmet {
	var out []wire.Unmet
	for i := range list {
		out = append(out, c.unmet(of, &list[i]))
	}
	return out
}

// Proof says which expectations of a policy hold from an instant on; unmet are those that do not.
func (c Catalogue) Proof(of *decision.Compiled, unmet []survey.Break, at time.Time) wire.Proof {
	out := wire.Proof{At: at, Held: []wire.Named{}, Unmet: []wire.Unmet{}}
	for e := range policy.Each[*policy.Expectation](of.Policy()) {
		if !slices.ContainsFunc(unmet, func(b survey.Break) bool { return b.Expectation.ID == e.ID }) {
			out.Held = append(out.Held, wire.Named{ID: e.Key(), Name: e.Title()})
		}
	}
	out.Unmet = append(out.Unmet, c.Unmet(of, unmet)...)
	return out
}

func (c Catalogue) unmet(of *decision.Compiled, b *survey.Break) wire.Unmet {
	p, q := of.Policy(), b.Question()
	a := of.Explain(q)
	s := sayer{c: c, p: p, a: a}
	s.user, _ = policy.Find[*policy.User](p, string(q.User))
	s.device, _ = policy.Find[*policy.Device](p, string(q.Device))
	said := s.answer(q)
	out := wire.Unmet{
		ID: string(b.Expectation.ID), Name: b.Expectation.Title(), Expect: string(b.Expectation.Expect), At: b.At, Device: &said.Device, Right: &said.Right,
		Circumstances: Given(b.Given), Have: b.Have, Cases: b.Cases,
	}
	pairs := []string{"name", out.Name, "time", s.time(b.At), "right", said.Right.Name, "device", said.Device.Name}
	if b.Expectation.Expect == policy.Someone {
		out.Text = c.Say("unmet.someone_"+plural(b.Have), append(pairs, "n", strconv.Itoa(b.Have), "least", strconv.Itoa(b.Expectation.AtLeast))...)
	} else {
		out.User, out.Reason = &said.User, said.Reason
		for _, t := range said.Because {
			out.Grant = t.Grant
		}
		given := ""
		if b.Given != nil {
			given = ", " + c.Circumstances(p, b.Given, nil)
		}
		out.Text = c.Say("unmet.pair", append(pairs, "answer", c.Say("unmet.answer_"+map[bool]string{true: "yes", false: "no"}[a.Allowed],
			"user", said.User.Name, "right", said.Right.Name, "device", said.Device.Name), "given", given, "why", s.why(said, q))...)
	}
	if more := b.Cases - 1; more > 0 {
		out.Text += " " + c.Counted("unmet.more", more)
	}
	return out
}

// plural is none, one or other.
func plural(n int) string {
	switch n {
	case 0:
		return "none"
	case 1:
		return "one"
	}
	return "other"
}
