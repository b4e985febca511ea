package answers

import (
	"slices"

	"sentier/internal/authority"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// Check answers a question with its reasons, in words.
func (s Service) Check(c service.Caller, in wire.Check) (wire.Answer, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Ask, policy.UserID(in.User)); err != nil {
		return wire.Answer{}, err
	}
	in.Context = ownContext(c, in.User, in.Context)
	q, err := translate.Question(st.Policy, in, s.Now())
	if err != nil {
		return wire.Answer{}, err
	}
	if (in.User == "") == (in.Group == "") {
		return wire.Answer{}, service.Wrong("user", "give either a user or a group")
	}
	own, hidden, err := s.alone(st, c, q, in.Group)
	if err != nil {
		return wire.Answer{}, err
	}
	if hidden && in.At != "" { // not even by which clock it goes
		at, err := s.circumstances(st, in.At, st.Policy.Settings().Zone, wire.Context{}, nil)
		if err != nil {
			return wire.Answer{}, err
		}
		q.At = at.At
	}
	words := wording.Accepted(c.Language)
	var out wire.Answer
	switch {
	case own:
		out = words.OwnAnswer(st.Policy, q, st.Compiled.Own(q, st.Compiled.Explain(q)), !hidden, s.whom(st))
	case in.Group != "":
		out = words.Answer(st.Policy, q, st.Compiled.ExplainGroup(policy.UserGroupID(in.Group), q))
	default:
		out = words.Answer(st.Policy, q, st.Compiled.Explain(q))
	}
	s.sourced(&out, in.User, words)
	hideStops(s.View(st, c), s.Rights(st, c).Bounded(), words, &out)
	out.Revision = st.Revision.Number
	if in.Group != "" { // nobody asks as a group
		return out, nil
	}
	q.User = policy.UserID(in.User)
	return out, s.Decided(st, c, service.Decided{Question: &q, Reason: out.Reason, Asked: in.User != string(c.User) && s.Permit(st, c, service.Read, "") == nil})
}

// sourced names the source of each membership that one has brought.
func (s Service) sourced(out *wire.Answer, user string, words wording.Catalogue) {
	for _, t := range slices.Concat(out.Because, out.Missing) {
		for i := range t.Stops {
			stop := &t.Stops[i]
			if stop.Type != policy.UserGroups.String() {
				continue
			}
			if from, ok := s.BroughtBy(stop.ID, user); ok {
				stop.Source = &from
				stop.Text = words.Say("stop.sourced", "text", stop.Text, "source", from.Name)
			}
			break // the others are groups that include it
		}
	}
}

// hideStops takes from trails what a caller who administers a part may not see: the stop stays, without a name.
func hideStops(v authority.View, bounded bool, words wording.Catalogue, out *wire.Answer) {
	if !bounded {
		return
	}
	for _, t := range slices.Concat(out.Because, out.Missing) {
		for i := range t.Stops {
			stop := &t.Stops[i]
			if t, ok := policy.TypeNamed(stop.Type); ok && stop.ID != "" && (t == policy.Sites || t == policy.DeviceGroups) {
				if _, ok := v.Get(t, stop.ID); !ok {
					stop.ID, stop.Name = "", words.Say("stop.hidden")
				}
			}
		}
	}
}

// ownContext is the circumstances in which somebody asks about themself: how strongly they have signed in is known, where they do not say.
func ownContext(c service.Caller, about string, in wire.Context) wire.Context {
	if about == string(c.User) && in.StrongSignIn == nil && c.SignedIn() {
		in.StrongSignIn = &c.Strong
	}
	return in
}

// Evaluate answers a question in the terms of the AuthZEN Authorization API, without words.
func (s Service) Evaluate(c service.Caller, in *wire.Evaluation) (wire.Decision, error) {
	st := s.State()
	asks := s.asker(st, c)
	if err := asks.may(policy.UserID(in.Subject.ID)); err != nil {
		return wire.Decision{}, err
	}
	q, err := translate.Evaluation(in, s.Now())
	if err != nil {
		return wire.Decision{}, err
	}
	out := asks.toDecision(&q, st.Compiled.Answer(q))
	return out, s.Decided(st, c, service.Decided{Question: &q, Reason: out.Context.Reason})
}

// own tells whether a caller may ask about themself alone, and so is told nothing of what is not their own.
func (s Service) own(st *service.State, c service.Caller) bool {
	return s.Permit(st, c, service.Ask, "") != nil
}

// alone tells whether a caller may ask a question only as one about themself, and whether they may not know then that what it is about is there.
// The error is [service.ErrNotFound] where it is about somebody else, on a device that is, to the caller, not there.
func (s Service) alone(st *service.State, c service.Caller, q decision.Question, group string) (own, hidden bool, err error) {
	own = s.own(st, c)
	if s.beyond(st, c, q.Device) {
		if q.User != c.User || group != "" {
			return false, false, service.ErrNotFound
		}
		own = true // what they have where they administer nothing is theirs to ask about
	}
	if q.Right == "" {
		q.Right = policy.View
	}
	return own, own && !st.Compiled.Concerns(q), nil
}

// beyond tells whether a device lies beyond what a caller may ask about anybody but themself: then it is, to them, not there.
func (s Service) beyond(st *service.State, c service.Caller, device policy.DeviceID) bool {
	return s.Rights(st, c).Bounded() && !s.View(st, c).Device(device)
}

// sites are those about which a caller may ask; nil: all.
func (s Service) sites(st *service.State, c service.Caller, about policy.UserID) func(policy.SiteID) bool {
	if !s.Rights(st, c).Bounded() || about != "" && about == c.User {
		return nil
	}
	return s.View(st, c).Sites()
}

// whom lists those whom somebody can ask for what they have not.
func (s Service) whom(st *service.State) []wire.Named {
	out := []wire.Named{}
	for _, id := range st.Compiled.LastingOwners(s.Now()) {
		out = append(out, wire.Named{ID: string(id), Name: st.Policy.Title(policy.Users, string(id))})
	}
	return out
}
