package answers

import (
	"sentier/internal/service"
	"sentier/internal/survey"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// Proof holds all expectations of the policy against it, over the 400 days from an instant: RFC 3339, a local time of the policy, or, where it
// is empty, now. It is for whoever sees the policy as a whole.
func (s Service) Proof(c service.Caller, at string) (wire.Proof, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Whole, ""); err != nil {
		return wire.Proof{}, err
	}
	in, err := s.circumstances(st, at, st.Policy.Settings().Zone, wire.Context{}, nil)
	if err != nil {
		return wire.Proof{}, err
	}
	out := wording.Accepted(c.Language).Proof(st.Compiled, survey.Of(st.Compiled).Unmet(in.At), in.At)
	out.Revision = st.Revision.Number
	return out, nil
}
