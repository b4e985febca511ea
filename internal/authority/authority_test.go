package authority_test

import (
	"errors"
	"strings"
	"testing"
	"time"

	"sentier/internal/authority"
	"sentier/internal/decision"
	"sentier/internal/policy"
)

var at = time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)

// world is a policy with one user of each role, and some whose mandates do not count.
func world(t *testing.T) *policy.Policy {
	t.Helper()
	gone := at.Add(-time.Hour)
	mandate := func(id string, role policy.MandateRole, user policy.UserID) policy.Mandate {
		return policy.Mandate{ID: policy.MandateID(id), Name: id, Role: role, To: policy.Holders{Users: []policy.UserID{user}}}
	}
	off, over := mandate("off", policy.Owner, "off"), mandate("over", policy.Owner, "over")
	off.Enabled, over.Valid = policy.Off, policy.Span{Until: gone}
	byGroup := mandate("by-group", policy.Auditor, "")
	byGroup.To = policy.Holders{Groups: []policy.UserGroupID{"wide"}}
	p, err := policy.FromRecords(&policy.Records{
		Users: []policy.User{{ID: "owner"}, {ID: "auditor"}, {ID: "gateway"}, {ID: "plain"}, {ID: "off"}, {ID: "over"}, {ID: "member"},
			{ID: "former"}, {ID: "ended", Valid: policy.Span{Until: gone}}},
		UserGroups: []policy.UserGroup{
			{ID: "narrow", Name: "Narrow", Members: []policy.Member{{User: "member"}, {User: "former", Until: gone}}},
			{ID: "wide", Name: "Wide", Includes: []policy.UserGroupID{"narrow"}},
		},
		Mandates: []policy.Mandate{mandate("owner", policy.Owner, "owner"), mandate("auditor", policy.Auditor, "auditor"),
			mandate("gateway", policy.Enforcement, "gateway"), mandate("ended", policy.Owner, "ended"), off, over, byGroup},
	})
	if err != nil {
		t.Fatal(err)
	}
	return p
}

func TestWhoMayDoWhat(t *testing.T) {
	p := world(t)
	c := decision.Compile(p)
	put := policy.Change{Op: policy.Put, Type: policy.Users, ID: "new", Record: &policy.User{ID: "new"}}
	next, done, err := p.Apply([]policy.Change{put})
	if err != nil {
		t.Fatal(err)
	}
	for _, w := range []struct{ user, may, roles string }{
		{"owner", "ask read write follow manage own change see", "owner"},
		{"auditor", "ask read follow own see", "auditor"},
		{"member", "ask read follow own see", "auditor"},
		{"gateway", "ask follow own", "enforcement"},
		{"plain", "own", ""},
		{"former", "own", ""},
		{"off", "own", ""},
		{"over", "own", ""},
		{"ended", "own", ""}, // but they are not signed in, see below
		{"nobody", "own", ""},
	} {
		t.Run(w.user, func(t *testing.T) {
			r := authority.Of(c, policy.UserID(w.user), at)
			var may []string
			hear := func(word string, err error) {
				var forbidden *authority.Forbidden
				switch {
				case err == nil:
					may = append(may, word)
				case !errors.As(err, &forbidden) || !strings.Contains(err.Error(), "role owner"):
					t.Errorf("%s: %v, which does not say that it takes the role owner", word, err)
				}
			}
			for _, do := range []authority.Action{authority.Ask, authority.Read, authority.Write, authority.Follow, authority.Manage} {
				hear(string(do), r.May(do, "somebody-else"))
			}
			hear("own", r.May(authority.Ask, policy.UserID(w.user)))
			hear("change", r.Change(p, next, done))
			_, seen := r.View(c).Get(policy.Users, "plain")
			if seen != (r.View(c).Len(policy.Users) > 0) {
				t.Error("a view shows a record and no list, or the other way round")
			}
			if seen {
				may = append(may, "see")
			}
			if got := strings.Join(may, " "); got != w.may {
				t.Errorf("may %q, want %q", got, w.may)
			}
			if got := strings.Join(r.Roles(), " "); got != w.roles {
				t.Errorf("roles %q, want %q", got, w.roles)
			}
			if in := w.user != "ended" && w.user != "nobody"; r.SignedIn() != in {
				t.Errorf("signed in is %v, want %v", r.SignedIn(), in)
			}
			if err := r.Change(p, p, nil); err != nil {
				t.Errorf("a change that does nothing is refused: %v", err)
			}
		})
	}
}
