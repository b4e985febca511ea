package answers

import (
	"slices"
	"strings"

	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/wire"
)

// searchOrder is the order in which the types of what was found are listed.
var searchOrder = []policy.Type{
	policy.Users, policy.UserGroups, policy.Devices, policy.DeviceGroups, policy.Sites, policy.Grants,
	policy.Schedules, policy.Roles, policy.Rights, policy.Calendars, policy.Kinds, policy.Mandates,
}

// Find searches all records for a word, those whose name begins with it first.
func (s Service) Find(c service.Caller, word string, limit int) ([]wire.Found, error) {
	st := s.State()
	if err := s.Permit(st, c, service.Read, ""); err != nil {
		return nil, err
	}
	word, v := policy.FoldName(word), s.View(st, c)
	out := []wire.Found{}
	if word == "" {
		return out, nil
	}
	var begins, holds []wire.Found
	for _, t := range searchOrder {
		for r := range v.All(t) {
			if len(begins) >= limit {
				break
			}
			found := wire.Found{Type: t.String(), ID: r.Key(), Name: r.Title(), Note: noteOf(st.Policy, r)}
			switch texts := policy.Searchable(r); {
			case slices.ContainsFunc(texts, func(s string) bool { return strings.HasPrefix(policy.FoldName(s), word) }):
				begins = append(begins, found)
			case len(holds) < limit && slices.ContainsFunc(texts, func(s string) bool { return strings.Contains(policy.FoldName(s), word) }):
				holds = append(holds, found)
			}
		}
	}
	out = append(append(out, begins...), holds...)
	return out[:min(len(out), limit)], nil
}

// noteOf says by what else a record is told apart from those of like names.
func noteOf(p *policy.Policy, r policy.Record) string {
	switch r := r.(type) {
	case *policy.User:
		return r.Email
	case *policy.Device:
		if s, ok := policy.Find[*policy.Site](p, string(r.Site)); ok {
			return s.Title()
		}
	case *policy.Grant:
		return r.Note
	}
	return ""
}
