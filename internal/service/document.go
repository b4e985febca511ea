package service

import (
	"context"
	"io"
	"strings"

	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// Dump writes the whole policy of a state as a document, and tells at which revision it was so.
func (s *Service) Dump(st *State, c Caller, syntax document.Syntax) (write func(io.Writer) error, revision uint64, err error) {
	if err := s.Permit(st, c, Whole, ""); err != nil {
		return nil, 0, err
	}
	return func(to io.Writer) error { return document.WritePolicyTo(to, st.Policy, syntax) }, st.Revision.Number, nil
}

// Load puts the policy of a document in the place of the current one. An empty syntax is the one that the document looks
// like. The error is of type [document.Faults] where the document is not sound.
func (s *Service) Load(ctx context.Context, c Caller, data []byte, syntax document.Syntax, o EditOptions) (wire.Saved, error) {
	do := Replace
	if o.DryRun {
		do = Whole
	}
	if err := s.Permit(s.State(), c, do, ""); err != nil {
		return wire.Saved{}, err
	}
	p, err := document.ReadPolicyAs(data, syntax, s.State().Policy)
	if err != nil {
		return wire.Saved{}, err
	}
	if o.way = WayDocument; o.Note == "" {
		o.title = "policy loaded"
	}
	o.rows = p.Len()
	return answerOf(s.change(ctx, c, &o, func(now *State) (step, error) {
		if err := o.expectPolicy(now); err != nil {
			return step{}, err
		}
		return signed(c, &o, now, step{policy: p, done: now.Policy.Compare(p)})
	}))
}

// StaleError is that the policy has changed since the caller looked at it.
type StaleError struct {
	Expected string // entity tag
	Now      uint64
}

func (e *StaleError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *StaleError) Unwrap() error {
	return policy.Say("the policy is at revision %d by now, and you saw %s: look at it again", e.Now, strings.Trim(e.Expected, `"`))
}
