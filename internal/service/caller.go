package service

import (
	"sentier/internal/authority"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// Caller is who asks the service for something, and by what way.
type Caller struct {
	User  policy.UserID
	Via   string // console, terminal or token
	Token string // id of the credential

	Source  string           // the source whose people and groups they bring, and that is all they may; empty: none
	Mandate policy.MandateID // the only one that counts; empty: all that are in force for the user

	From string // address that the request came from; empty: not known

	Strong bool // they have proved who they are by a second factor

	secret string // that they came with; empty: they have the machine in hand

	Language string // Accept-Language of the request; empty: English

	found *found // nil: nobody has looked yet
}

// SignedIn tells whether a person has come, by signing in, and not a program with a token.
func (c Caller) SignedIn() bool {
	return c.Via == string(store.KindConsole) || c.Via == string(store.KindTerminal)
}

// Action is what a caller wants to do; see [authority.Action].
type Action = authority.Action

// The actions.
const (
	Ask     = authority.Ask
	Read    = authority.Read
	Whole   = authority.Whole
	Write   = authority.Write
	Replace = authority.Replace
	Follow  = authority.Follow
	Manage  = authority.Manage
)

// ForbiddenError is that a caller may not do a thing; see [authority.Forbidden].
type ForbiddenError = authority.Forbidden

// found are the rights of a caller in a state, which are looked for once a request.
type found struct {
	state  *State
	rights authority.Rights
	view   authority.View
}

func (s *Service) find(st *State, c Caller) *found {
	r := s.rights(st, c)
	return &found{st, r, r.View(st.Compiled)}
}

// Rights are what a caller may do with the service.
func (s *Service) Rights(st *State, c Caller) authority.Rights {
	if c.found != nil && c.found.state == st {
		return c.found.rights
	}
	return s.rights(st, c)
}

func (s *Service) rights(st *State, c Caller) authority.Rights {
	if st.judged != nil {
		st = st.judged
	}
	r := authority.Of(st.Compiled, c.User, s.borders.Clock())
	if c.Mandate != "" {
		r = r.By(c.Mandate)
	}
	return r
}

// may tells whether a caller may do a thing. about is the user that it is about, where it is about one.
func (s *Service) Permit(st *State, c Caller, do Action, about policy.UserID) error {
	r := s.Rights(st, c)
	if !r.SignedIn() {
		return ErrCredential
	}
	return r.May(do, about)
}

// View is what a caller may see of the policy.
func (s *Service) View(st *State, c Caller) authority.View {
	if c.found != nil && c.found.state == st {
		return c.found.view
	}
	return s.Rights(st, c).View(st.Compiled)
}

// May tells whether a caller may do a thing, before anything is known of what it is about, and remembers what they may.
func (s *Service) May(c *Caller, do Action) error {
	st := s.State()
	c.found = s.find(st, *c)
	return s.Permit(st, *c, do, "")
}

// Methods lists the methods that a caller may use on a record, as Allow of RFC 9110 does: what a console offers them.
func (s *Service) Methods(c Caller, record policy.Record) string {
	st := s.State()
	acts, out := s.Rights(st, c).Acts(st.Policy, record), "GET, HEAD"
	switch {
	case acts.Edit && record.Type() == policy.SettingsType, !acts.Edit && acts.Members:
		out += ", PATCH"
	case acts.Edit:
		out += ", PUT, PATCH"
	}
	if acts.Remove {
		out += ", DELETE"
	}
	return out
}

// Roles lists the roles of a caller's mandates.
func (s *Service) Roles(c Caller) []string { return s.Rights(s.State(), c).Roles() }

// Hides tells whether something of the policy is hidden from a caller who administers a part of it.
func (s *Service) Hides(c Caller) bool { return s.Rights(s.State(), c).Bounded() }
