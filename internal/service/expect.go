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

// expectations refuses a change after which something that is expected would not hold any more that did before. It is looked at while the rows
// are written: what it finds is waited for before they count.
func (m *making) expectations() error {
	if err := m.override(); err != nil {
		return err
	}
	if len(m.o.Override) > 0 || stops(m.done) || !expects(m.policy) {
		return nil
	}
	m.expected = make(chan error, 1)
	go func() {
		after := m.compile(m.now)
		if list := m.broken(m.now, after, m.done); len(list) > 0 {
			m.expected <- &UnmetError{m.Service.told(m.now, m.caller, after, list)}
			return
		}
		m.expected <- nil
	}()
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

// override notes, for the audit log, which expectations a change breaks whose caller may do that, and says why. Where it breaks others than
// are named, it is refused.
func (m *making) override() error {
	o, atOnce := m.o, stops(m.done)
	if len(o.Override) == 0 && !(atOnce && expects(m.policy)) {
		return nil
	}
	after := m.compile(m.now)
	var names []string
	var named, others []survey.Break
	for _, b := range m.broken(m.now, after, m.done) {
		if atOnce || slices.Contains(o.Override, string(b.Expectation.ID)) {
			named, names = append(named, b), append(names, b.Expectation.Title())
		} else {
			others = append(others, b)
		}
	}
	if len(others) > 0 {
		return &UnmetError{m.Service.told(m.now, m.caller, after, others)}
	}
	if len(named) == 0 {
		return nil
	}
	o.unmet = m.Service.told(m.now, m.caller, after, named)
	if atOnce {
		o.beside += "; does not hold meanwhile: " + strings.Join(names, ", ")
		return nil
	}
	if err := m.Permit(m.now, m.caller, authority.Replace, ""); err != nil {
		return err
	}
	if strings.TrimSpace(o.Note) == "" {
		return Wrong("note", "is missing: say why the expectations are overridden")
	}
	o.beside += "; expectations overridden: " + strings.Join(names, ", ")
	return nil
}
