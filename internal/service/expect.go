package service

import (
	"reflect"
	"slices"
	"strings"

	"sentier/internal/authority"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/survey"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// UnmetError is that expectations of the policy would not hold any more: "Expectations" in the semantics.
type UnmetError struct {
	Unmet []wire.Unmet // empty where the caller may not see what they say
}

func (e *UnmetError) Error() string { return e.In(wording.English) }

// In says it in a language.
func (e *UnmetError) In(words wording.Catalogue) string {
	if len(e.Unmet) == 0 {
		return words.Say("problem.unmet_hidden")
	}
	var list []string
	for _, u := range e.Unmet {
		list = append(list, u.Text)
	}
	return words.Say("problem.unmet", "unmet", strings.Join(list, " "))
}

// expects tells whether a policy has any expectations.
func expects(p *policy.Policy) bool { return p.Table(policy.Expectations).Len() > 0 }

// broken tells which expectations a change breaks.
func (s *Service) broken(now *State, after *decision.Compiled, done []policy.RecordChange) []survey.Break {
	return survey.Broken(now.Compiled, after, done, s.borders.Clock())
}

// told says what does not hold any more to whoever may see all of the policy.
func (s *Service) told(now *State, c Caller, after *decision.Compiled, list []survey.Break) []wire.Unmet {
	if !s.View(now, c).Whole() {
		return nil
	}
	return wording.Accepted(c.Language).Unmet(after, list)
}

// keepsExpectations refuses a change after which expectations would not hold any more that did before.
func (s *Service) keepsExpectations(c Caller, now, next *State, done []policy.RecordChange) error {
	if list := s.broken(now, next.Compiled, done); len(list) > 0 {
		return &UnmetError{s.told(now, c, next.Compiled, list)}
	}
	return nil
}

// stops tells whether a change does nothing but lock devices out, or suspend people. What is done at once because there is danger waits for no
// expectation: what does not hold meanwhile is told, and stays in the record.
func stops(done []policy.RecordChange) bool {
	return !slices.ContainsFunc(done, func(c policy.RecordChange) bool {
		switch after := c.After.(type) {
		case *policy.Device:
			was, ok := c.Before.(*policy.Device)
			if !ok || after.Lockout == nil {
				return true
			}
			same := *was
			same.Lockout = after.Lockout
			return !reflect.DeepEqual(&same, after)
		case *policy.User:
			was, ok := c.Before.(*policy.User)
			if !ok || after.Status != policy.Suspended {
				return true
			}
			same := *was
			same.Status = after.Status
			return !reflect.DeepEqual(&same, after)
		}
		return true
	})
}

// override notes, for the record, which expectations a change breaks whose caller may do that, and says why. Where it breaks others than
// are named, it is refused.
func (s *Service) override(now *State, c Caller, o *EditOptions, st *step) error {
	atOnce := stops(st.done)
	if len(o.Override) == 0 && !(atOnce && expects(st.policy)) {
		return nil
	}
	st.compile(now)
	var names []string
	var named, others []survey.Break
	for _, b := range s.broken(now, st.compiled, st.done) {
		if atOnce || slices.Contains(o.Override, string(b.Expectation.ID)) {
			named, names = append(named, b), append(names, b.Expectation.Title())
		} else {
			others = append(others, b)
		}
	}
	if len(others) > 0 {
		return &UnmetError{s.told(now, c, st.compiled, others)}
	}
	if len(named) == 0 {
		return nil
	}
	o.unmet = s.told(now, c, st.compiled, named)
	if atOnce {
		o.Note = strings.TrimPrefix(o.Note+"; does not hold meanwhile: "+strings.Join(names, ", "), "; ")
		return nil
	}
	if err := s.Permit(now, c, authority.Replace, ""); err != nil {
		return err
	}
	if o.unsaid || strings.TrimSpace(o.Note) == "" {
		return Wrong("note", "is missing: say why the expectations are overridden")
	}
	o.Note += "; expectations overridden: " + strings.Join(names, ", ")
	return nil
}
