package service

import (
	"reflect"
	"slices"
	"strings"

	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wording"
)

// ApprovalError is that a change needs a second person.
type ApprovalError struct{ Needed []string }

func (e *ApprovalError) Error() string { return e.In(wording.English) }

// In says it in a language.
func (e *ApprovalError) In(words wording.Catalogue) string {
	var why []string
	for _, n := range e.Needed {
		why = append(why, words.Say("approval."+n))
	}
	return words.Say("problem.approval", "why", strings.Join(why, ", "))
}

// secondPerson refuses a change for which the settings ask for a second person, unless there was one.
func (s *Service) secondPerson(now *State, o *EditOptions, st *step) error {
	if o.second || !s.settings.Load().Approval.Asks() {
		return nil
	}
	st.compile(now)
	if needed := s.needsApproval(now, *st); len(needed) > 0 {
		return &ApprovalError{needed}
	}
	return nil
}

// needsApproval tells for which of the rules that are set a change needs a second person. What takes away alone needs none.
func (s *Service) needsApproval(now *State, st step) []string {
	rules := s.settings.Load().Approval
	out := []string{}
	if !rules.Asks() {
		return out
	}
	found := survey.Compare(now.Compiled, st.compiled, st.done, survey.Circumstances{At: s.borders.Clock()}, 0)
	mandates := slices.ContainsFunc(st.done, func(c policy.RecordChange) bool { return c.Record().Type() == policy.Mandates }) ||
		slices.ContainsFunc(found.Mandates, func(m survey.MandateDifference) bool { return m.Gained })
	for _, rule := range []struct {
		name string
		met  bool
	}{
		{"control", rules.Control && found.Control > 0},
		{"everyone", rules.Everyone && slices.ContainsFunc(st.done, func(c policy.RecordChange) bool { return widens(c, toEveryone) })},
		{"everything", rules.Everything && slices.ContainsFunc(st.done, func(c policy.RecordChange) bool { return widens(c, onEverything) })},
		{"mandates", rules.Mandates && mandates},
		{"people", rules.MoreThan > 0 && found.Gainers > rules.MoreThan},
	} {
		if rule.met {
			out = append(out, rule.name)
		}
	}
	return out
}

func toEveryone(g *policy.Grant) bool { return g.To.Everyone }

func onEverything(g *policy.Grant) bool {
	return slices.ContainsFunc(g.Lines, func(l policy.Line) bool { return l.On.Everything })
}

// widens tells whether a change leaves an allowing grant of a far reach that did not give just that before.
func widens(c policy.RecordChange, far func(*policy.Grant) bool) bool {
	g, ok := c.After.(*policy.Grant)
	if !ok || g.Effect == policy.Deny || g.Enabled == policy.Off || !far(g) {
		return false
	}
	was, ok := c.Before.(*policy.Grant)
	if !ok {
		return true
	}
	bare := func(g policy.Grant) policy.Grant {
		g.Name, g.Common = "", policy.Common{}
		return g
	}
	return !reflect.DeepEqual(bare(*was), bare(*g))
}
