package answers_test

import (
	"errors"
	"log/slog"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"sentier/internal/answers"
	"sentier/internal/demo"
	"sentier/internal/policy"
	"sentier/internal/service"
	"sentier/internal/specimen"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// larkmere answers about the Larkmere Navigation, on a working Tuesday.
func larkmere(t *testing.T) answers.Service {
	t.Helper()
	p, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	st, err := store.Open(t.TempDir(), true)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := st.Close(); err != nil {
			t.Error(err)
		}
	})
	now := func() time.Time { return demo.Written }
	if err := service.Begin(t.Context(), st, service.Beginning{Owner: "ines.carvalho", Password: "larkmere-demo", Policy: p}, now()); err != nil {
		t.Fatal(err)
	}
	s, err := service.Open(t.Context(), service.On(st, specimen.Record(t, st.Dir(), now), slog.New(slog.DiscardHandler), now))
	if err != nil {
		t.Fatal(err)
	}
	return answers.Of(s)
}

var owner, auditor, nobody = service.Caller{User: "ines.carvalho"}, service.Caller{User: "lena.marsh"}, service.Caller{User: "tomas.field"}

// TestWhoMayAskWhat asks every question as the owner, as an auditor, and as somebody without a mandate, who gets their own access and
// nothing else.
func TestWhoMayAskWhat(t *testing.T) {
	t.Parallel()
	s := larkmere(t)
	ctx := t.Context()
	refused := func(err error) bool {
		return errors.As(err, new(*service.ForbiddenError)) || errors.Is(err, service.ErrNotFound)
	}
	other := wire.Check{User: "noor.haddad", Right: "view", Device: "mill-bridge"}
	for name, ask := range map[string]func(c service.Caller) error{
		"check of another": func(c service.Caller) error { _, err := s.Check(c, other); return err },
		"advice": func(c service.Caller) error {
			_, err := s.Advise(c, wire.AdviceQuestion{User: "noor.haddad", Right: "view", Device: "mill-bridge"})
			return err
		},
		"a list":        func(c service.Caller) error { _, err := s.List(c, "users", answers.Query{}); return err },
		"a record":      func(c service.Caller) error { _, err := s.Get(c, "users", "noor.haddad"); return err },
		"mentions":      func(c service.Caller) error { _, err := s.Mentions(c, "users", "noor.haddad"); return err },
		"names":         func(c service.Caller) error { _, err := s.Names(c, nil); return err },
		"names of some": func(c service.Caller) error { _, err := s.Names(c, []string{"users/noor.haddad"}); return err },
		"counts":        func(c service.Caller) error { _, err := s.Counts(c); return err },
		"a search":      func(c service.Caller) error { _, err := s.Find(c, "mill", 5); return err },
		"a time":        func(c service.Caller) error { _, err := s.ReadTime(c, wire.TimeQuestion{Text: "tomorrow"}); return err },
		"a match":       func(c service.Caller) error { _, err := s.PreviewMatch(c, wire.MatchQuestion{}); return err },
		"a schedule":    func(c service.Caller) error { _, err := s.PreviewSchedule(c, wire.ScheduleQuestion{}); return err },
		"a matrix": func(c service.Caller) error {
			_, err := s.Matrix(c, wire.MatrixQuestion{Rows: wire.Axis{Type: "users"}, Columns: wire.Axis{Type: "sites"}})
			return err
		},
		"uses": func(c service.Caller) error {
			_, err := s.Uses(c, "schedules", "night-watch", answers.ReachQuery{})
			return err
		},
		"reach of another": func(c service.Caller) error {
			_, err := s.Reach(c, "users", "noor.haddad", answers.ReachQuery{})
			return err
		},
		"who reaches": func(c service.Caller) error {
			_, err := s.Reach(c, "devices", "mill-bridge", answers.ReachQuery{})
			return err
		},
		"as another sees it": func(c service.Caller) error {
			_, err := s.Seen(ctx, c, "noor.haddad", answers.ReachQuery{})
			return err
		},
		"who looked": func(c service.Caller) error { _, err := s.Looks(ctx, c); return err },
		"another's week": func(c service.Caller) error {
			_, err := s.Week(c, wire.WeekQuestion{User: "noor.haddad", Device: "mill-bridge"})
			return err
		},
	} {
		if err := ask(owner); err != nil {
			t.Errorf("%s, as the owner: %v", name, err)
		}
		if err := ask(auditor); err != nil {
			t.Errorf("%s, as an auditor: %v", name, err)
		}
		if err := ask(nobody); !refused(err) {
			t.Errorf("%s, without a mandate: %v", name, err)
		}
		if err := ask(service.Caller{User: "no.such"}); err == nil {
			t.Errorf("%s, without an account, is answered", name)
		}
	}
	for name, ask := range map[string]func() error{
		"check": func() error {
			_, err := s.Check(nobody, wire.Check{User: "tomas.field", Right: "view", Device: "mill-bridge"})
			return err
		},
		"reach": func() error { _, err := s.Reach(nobody, "users", "tomas.field", answers.ReachQuery{}); return err },
		"seen":  func() error { _, err := s.Seen(ctx, nobody, "tomas.field", answers.ReachQuery{}); return err },
		"week": func() error {
			_, err := s.Week(nobody, wire.WeekQuestion{User: "tomas.field", Device: "mill-bridge"})
			return err
		},
	} {
		if err := ask(); err != nil {
			t.Errorf("%s about oneself, without a mandate: %v", name, err)
		}
	}
}

// TestAListIsAllThatPasses pages through lists that are searched, narrowed down and sorted: together they are the records that pass, each
// once, whatever the size of a page.
func TestAListIsAllThatPasses(t *testing.T) {
	t.Parallel()
	s := larkmere(t)
	p := s.State().Policy
	random := rand.New(rand.NewPCG(7, 7))
	kind := func(want policy.KindID) func(policy.Record) bool {
		return func(r policy.Record) bool { return r.(*policy.Device).Kind == want }
	}
	for name, c := range map[string]struct {
		typ    policy.Type
		q      answers.Query
		passes func(policy.Record) bool
	}{
		"all users":           {policy.Users, answers.Query{}, func(policy.Record) bool { return true }},
		"bridges":             {policy.Devices, answers.Query{Filter: map[string]string{"kind": "lift-bridge"}}, kind("lift-bridge")},
		"bridges, sorted":     {policy.Devices, answers.Query{Filter: map[string]string{"kind": "lift-bridge"}, Sort: "-site"}, kind("lift-bridge")},
		"what is called mill": {policy.Devices, answers.Query{Search: " MILL "}, func(r policy.Record) bool { return strings.Contains(strings.ToLower(r.Key()+r.Title()), "mill") }},
		"the suspended":       {policy.Users, answers.Query{Filter: map[string]string{"status": "suspended"}}, func(r policy.Record) bool { return r.(*policy.User).Status == policy.Suspended }},
		"members of a group": {policy.Users, answers.Query{Filter: map[string]string{"group": "bridge-crew"}, Sort: "name"}, func(r policy.Record) bool {
			g, _ := policy.Find[*policy.UserGroup](p, "bridge-crew")
			return g.IsMember(r.(*policy.User).ID)
		}},
		"at no site":           {policy.Devices, answers.Query{Filter: map[string]string{"site": answers.Unsorted}}, func(r policy.Record) bool { return r.(*policy.Device).Site == "" }},
		"critical, by tag":     {policy.Devices, answers.Query{Filter: map[string]string{"tag": "critical"}, Sort: "tags"}, func(r policy.Record) bool { return slices.Contains(r.(*policy.Device).Tags, "critical") }},
		"grants that are off":  {policy.Grants, answers.Query{Filter: map[string]string{"enabled": "false"}}, func(r policy.Record) bool { return r.(*policy.Grant).Enabled == policy.Off }},
		"nothing of that name": {policy.Roles, answers.Query{Search: "no such name"}, func(policy.Record) bool { return false }},
	} {
		var want, got []string
		for r := range p.Table(c.typ).All() {
			if c.passes(r) {
				want = append(want, r.Key())
			}
		}
		q := c.q
		for q.Limit = 1 + random.IntN(7); ; {
			page, err := s.List(owner, c.typ.String(), q)
			if err != nil || page.Total != len(want) || len(page.Items) > q.Limit {
				t.Fatalf("%s: a page of %d, %d in all of %d (%v)", name, len(page.Items), page.Total, len(want), err)
			}
			for _, r := range page.Items {
				got = append(got, r.Key())
			}
			if q.Cursor = page.Next; q.Cursor == "" {
				break
			}
		}
		if c.q.Sort != "" {
			slices.Sort(got)
		}
		if !slices.Equal(got, want) {
			t.Errorf("%s: %v, want %v", name, got, want)
		}
	}
	for _, q := range []answers.Query{{Limit: -1}, {Limit: answers.MaxPage + 1}, {Filter: map[string]string{"colour": "red"}}, {Sort: "colour"}, {Cursor: "AAAAAAAAAAAAAAAA"}} {
		if _, err := s.List(owner, "users", q); !errors.As(err, new(*service.InputError)) {
			t.Errorf("%+v: %v", q, err)
		}
	}
	// What comes after a place in one list says nothing in another.
	page, err := s.List(owner, "users", answers.Query{Limit: 1})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := s.List(owner, "users", answers.Query{Limit: 1, Cursor: page.Next, Search: "a"}); err == nil {
		t.Error("a cursor of another question is taken")
	}
}

// TestTimesAreReadByTheClockThatIsNamed reads one text by several clocks.
func TestTimesAreReadByTheClockThatIsNamed(t *testing.T) {
	t.Parallel()
	s := larkmere(t)
	for _, c := range []struct {
		in   wire.TimeQuestion
		zone string
		at   string
	}{
		{wire.TimeQuestion{Text: "tomorrow 06:00"}, "Europe/Lisbon", "2026-11-25T06:00:00Z"},
		{wire.TimeQuestion{Text: "tomorrow 06:00", Device: "alder-gate-1"}, "Europe/Madrid", "2026-11-25T05:00:00Z"},
		{wire.TimeQuestion{Text: "tomorrow 06:00", Site: "border-arm"}, "Europe/Madrid", "2026-11-25T05:00:00Z"},
		{wire.TimeQuestion{Text: "tomorrow 06:00", Zone: "UTC", Device: "alder-gate-1"}, "UTC", "2026-11-25T06:00:00Z"},
		{wire.TimeQuestion{Text: "tomorrow 06:00", Device: "no-such"}, "Europe/Lisbon", "2026-11-25T06:00:00Z"},
		{wire.TimeQuestion{Device: "alder-gate-1"}, "Europe/Madrid", ""},
	} {
		got, err := s.ReadTime(owner, c.in)
		if err != nil || got.Zone != c.zone || (got.At == nil) != (c.at == "") || got.At != nil && got.At.Format(time.RFC3339) != c.at {
			t.Errorf("%+v: %+v (%v)", c.in, got, err)
		}
	}
	for _, in := range []wire.TimeQuestion{{Text: "soonish"}, {Text: strings.Repeat("in ", 1000)}, {Zone: "Mars/Base"}} {
		if _, err := s.ReadTime(owner, in); !errors.As(err, new(*service.InputError)) {
			t.Errorf("%+v: %v", in, err)
		}
	}
}
