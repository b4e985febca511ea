package service

import (
	"sentier/internal/policy"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// Check answers a question with its reasons, in words.
func (s *Service) Check(c Caller, in wire.Check) (wire.Answer, error) {
	st := s.State()
	if err := s.may(st, c, Ask, policy.UserID(in.User)); err != nil {
		return wire.Answer{}, err
	}
	q, err := translate.Question(st.Policy, in, s.now())
	if err != nil {
		return wire.Answer{}, err
	}
	if (in.User == "") == (in.Group == "") {
		return wire.Answer{}, &InputError{Field: "user", Problem: "give either a user or a group"}
	}
	answer := st.Compiled.Explain(q)
	if in.Group != "" {
		answer = st.Compiled.ExplainGroup(policy.UserGroupID(in.Group), q)
	}
	out := wording.Accepted(c.Language).Answer(st.Policy, q, answer)
	out.Revision = st.Revision.Number
	return out, nil
}

// Evaluate answers a question in the terms of the AuthZEN Authorization API, without words.
func (s *Service) Evaluate(c Caller, in *wire.Evaluation) (wire.Decision, error) {
	st := s.State()
	if err := s.may(st, c, Ask, policy.UserID(in.Subject.ID)); err != nil {
		return wire.Decision{}, err
	}
	q, err := translate.Evaluation(in, s.now())
	if err != nil {
		return wire.Decision{}, err
	}
	return decide(st, q), nil
}
