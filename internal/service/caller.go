package service

import (
	"slices"
	"sync"

	"sentier/internal/policy"
)

// Caller is who asks the service for something, and by what way.
type Caller struct {
	User  policy.UserID
	Via   string // console, terminal or token
	Token string // id of the credential

	secret string // that they came with; empty: they have the machine in hand

	Language string // Accept-Language of the request; empty: English
}

// Action is what a caller wants to do.
type Action string

// The actions.
const (
	Ask    Action = "ask"    // for a decision about a user
	Read   Action = "read"   // records and what follows from them
	Write  Action = "write"  // records
	Follow Action = "follow" // which records change
	Manage Action = "manage" // credentials of others
)

// allowed says which roles of a mandate let their holders do what, besides the owner, who may do everything.
var allowed = map[Action][]policy.MandateRole{
	Ask:    {policy.Auditor, policy.Enforcement},
	Follow: {policy.Auditor, policy.Enforcement},
	Read:   {policy.Auditor},
}

// may is the one place that says whether a caller may do a thing: "Who may administer". about is
// the user that the action is about, where it is about one.
func (s *Service) may(st *State, c Caller, do Action, about policy.UserID) error {
	if _, ok := st.Compiled.MaySignIn(c.User, s.now()); !ok {
		return ErrCredential
	}
	if do == Ask && about == c.User {
		return nil
	}
	for _, m := range st.Compiled.Mandates(c.User, s.now()) {
		if m.Role == policy.Owner || slices.Contains(allowed[do], m.Role) {
			return nil
		}
	}
	roles := []string{"owner"}
	for _, r := range allowed[do] {
		roles = append(roles, string(r))
	}
	return &ForbiddenError{policy.Say("a mandate of the role %s", policy.Names(roles))}
}

// Roles lists the roles of a caller's mandates.
func (s *Service) Roles(c Caller) []string {
	out := []string{}
	for _, m := range s.State().Compiled.Mandates(c.User, s.now()) {
		if !slices.Contains(out, string(m.Role)) {
			out = append(out, string(m.Role))
		}
	}
	return out
}

// knownUsers is a set of users that many may look at.
type knownUsers struct {
	mu  sync.RWMutex
	ids map[string]bool
}

func (k *knownUsers) has(id string) bool {
	k.mu.RLock()
	defer k.mu.RUnlock()
	return k.ids[id]
}

func (k *knownUsers) drop(ids ...string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	for _, id := range ids {
		delete(k.ids, id)
	}
}

func (k *knownUsers) put(ids ...string) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.ids == nil {
		k.ids = map[string]bool{}
	}
	for _, id := range ids {
		k.ids[id] = true
	}
}
