// Package answers answers what callers ask of the service: checks and their explanations, AuthZEN, reach and the matrix, lists, searches and
// previews. It changes nothing, and asks of every caller what they may see.
package answers

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/wire"
)

// Service answers from the last revision that a service has, or from one of before.
type Service struct {
	*service.Service
	past *service.State // nil: the last
	then time.Time      // what the time is, where past is given

	drafted bool // past is none, but the policy with a draft
}

// Of is the service that answers beside one that changes.
func Of(s *service.Service) Service { return Service{Service: s} }

// State is the revision that is asked.
func (s Service) State() *service.State {
	if s.past != nil {
		return s.past
	}
	return s.Service.State()
}

// Now is the time at which it is asked: long ago, where the revision is one of before.
func (s Service) Now() time.Time {
	if s.past != nil {
		return s.then
	}
	return s.Service.Now()
}

// Methods lists the methods that a caller may use on a record; what was cannot be changed.
func (s Service) Methods(c service.Caller, record policy.Record) string {
	if s.past != nil && !s.drafted {
		return "GET, HEAD"
	}
	return s.Service.Methods(c, record)
}

// AsOf answers from the policy as it was: at a revision, named by its number, when it was made; or at a time, which is told as others are. The
// caller, who has to be one who reads everything, reads all of it from here on. The error is of type [service.InputError] where there was none.
func (s Service) AsOf(ctx context.Context, c *service.Caller, text string) (Service, error) {
	if id, is := strings.CutPrefix(text, ofDraft); is {
		return s.asDrafted(ctx, c, id)
	}
	if err := s.Permit(s.Service.State(), *c, service.Whole, ""); err != nil {
		return s, err
	}
	var err error
	if s.past, s.then, err = s.moment(ctx, "as_of", text); err != nil {
		return s, err
	}
	return s, s.LookBack(c, s.past)
}

// ofDraft stands before the id of a draft where the policy is asked as it would be with that.
const ofDraft = "draft:"

// asDrafted answers from the policy as it would be with a draft that the caller may know of. It is asked now, and can be changed: by what is put
// into the draft.
func (s Service) asDrafted(ctx context.Context, c *service.Caller, id string) (Service, error) {
	st, err := s.Drafted(ctx, c, id)
	if errors.Is(err, service.ErrNotFound) {
		return s, service.Wrong("as_of", "there is no draft %q", policy.Clip(id))
	}
	s.past, s.then, s.drafted = st, s.Service.Now(), true
	return s, err
}

// moment is the policy as it was, and at which time it is asked; field is called in an error.
func (s Service) moment(ctx context.Context, field, text string) (st *service.State, at time.Time, err error) {
	now := s.Service.State()
	number, err := strconv.ParseUint(text, 10, 64)
	byTime := err != nil
	if byTime {
		asked, err := s.circumstances(now, text, now.Policy.Settings().Zone, wire.Context{}, nil)
		if err != nil {
			return nil, at, service.Wrong(field, "%q is no revision and no time: write a number, or a time such as 2026-03-03 22:00", policy.Clip(text))
		}
		at = asked.At
		if at.After(s.Service.Now()) {
			return nil, at, service.Wrong(field, "%q is still to come: nobody knows what the policy will be then", policy.Clip(text))
		}
		if number, err = s.RevisionAt(ctx, at); errors.Is(err, service.ErrNotFound) {
			return nil, at, service.Wrong(field, "there was no policy yet at %s", policy.Clip(text))
		} else if err != nil {
			return nil, at, err
		}
	}
	st, err = s.Past(ctx, number)
	if errors.Is(err, service.ErrNotFound) {
		return nil, at, service.Wrong(field, "there is no revision %s: the last is %d", policy.Clip(text), now.Revision.Number)
	}
	if err == nil && !byTime {
		at = st.Revision.At
	}
	return st, at, err
}
