package service

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// larkmere opens a service on a fresh folder with the demonstration.
func larkmere(t *testing.T) (*Service, Caller) {
	t.Helper()
	s, _ := on(t, func() time.Time { return demo.Written })
	return s, Caller{User: "ines.carvalho", Via: "test"}
}

// peopleSheet are n people as a sheet, all with one name.
func peopleSheet(n int, name string) []byte {
	var out strings.Builder
	out.WriteString("id,name,email\n")
	for i := range n {
		fmt.Fprintf(&out, "newcomer.%05d,%s,newcomer.%05d@larkmere.example\n", i, name, i)
	}
	return []byte(out.String())
}

// dumped is the policy as it is kept, read anew.
func dumped(t *testing.T, s *Service) string {
	t.Helper()
	p, _, err := s.borders.Revisions.Load(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	var kept, served bytes.Buffer
	if err := errors.Join(document.WritePolicyTo(&kept, p, document.JSON), document.WritePolicyTo(&served, s.State().Policy, document.JSON)); err != nil {
		t.Fatal(err)
	}
	if kept.String() != served.String() {
		t.Error("the policy that is kept is not the one that answers")
	}
	return kept.String()
}

// TestALargeChangeBesideOthers: while a large change is laid ready, others change the policy. It comes as if it had been made first where
// they changed other records; it is worked out anew where they changed the same; nothing of either is lost.
func TestALargeChangeBesideOthers(t *testing.T) {
	const people = 2 * manyRows
	for name, c := range map[string]struct {
		meanwhile []wire.Edit
		match     bool
		want      string // in the error
		name      string // of the first newcomer, afterwards
		tries     int
	}{
		"nobody comes between":              {name: "Second", tries: 1},
		"another record":                    {meanwhile: []wire.Edit{{Op: "put", Type: "kinds", ID: "winch", Record: []byte(`{"name":"Winch"}`)}}, name: "Second", tries: 1},
		"one of its records":                {meanwhile: []wire.Edit{{Op: "patch", Type: "users", ID: "newcomer.00000", Record: []byte(`{"name":"Between","valid":{"until":"2027-01-01T00:00:00Z"}}`)}}, name: "Second", tries: 2},
		"one of its records, removed":       {meanwhile: []wire.Edit{{Op: "remove", Type: "users", ID: "newcomer.00000"}}, name: "Second", tries: 2},
		"one of its e-mails":                {meanwhile: []wire.Edit{{Op: "remove", Type: "users", ID: "newcomer.00000"}, {Op: "put", Type: "users", ID: "other", Record: []byte(`{"name":"Other","email":"newcomer.00000@larkmere.example"}`)}}, want: "newcomer.00000@larkmere.example", tries: 2},
		"the policy that the caller named":  {meanwhile: []wire.Edit{{Op: "put", Type: "kinds", ID: "winch", Record: []byte(`{"name":"Winch"}`)}}, match: true, want: "the policy is at revision", tries: 1},
		"one of its records, at every turn": {meanwhile: []wire.Edit{{Op: "patch", Type: "users", ID: "newcomer.00000", Record: []byte(`{"name":"Again"}`)}}, name: "Second", tries: triesBeside + 1},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s, caller := larkmere(t)
			if _, err := s.Import(t.Context(), caller, "users", peopleSheet(people, "First"), EditOptions{}); err != nil {
				t.Fatal(err)
			}
			begun := s.State().Revision.Number
			o := EditOptions{rows: people}
			if c.match {
				o.Match = []string{PolicyTag(begun)}
			}
			tries, between := 0, 0
			_, _, err := s.edit(t.Context(), caller, &o, func(now *State) ([]policy.Change, error) {
				if err := o.expectPolicy(now); err != nil {
					return nil, err
				}
				read, err := document.ReadCSV(now.Policy, "users", peopleSheet(people, "Second"), time.Time{})
				if tries++; c.meanwhile != nil && (tries == 1 || strings.Contains(name, "every turn") && tries <= triesBeside) {
					between++
					if len(c.meanwhile) == 1 && tries > 1 {
						c.meanwhile[0].Record = fmt.Appendf(nil, `{"name":"Again %d"}`, tries)
					}
					if _, err := s.Edit(t.Context(), caller, wire.Edits{Changes: c.meanwhile}, EditOptions{}); err != nil {
						t.Error(err)
					}
				}
				if err != nil {
					return nil, err
				}
				return read.Changes, nil
			})
			want := begun + uint64(between)
			if c.want == "" {
				want++
			}
			switch {
			case c.want == "" && err != nil, c.want != "" && (err == nil || !strings.Contains(err.Error(), c.want)):
				t.Errorf("the error is %v, want %q", err, c.want)
			case tries != c.tries:
				t.Errorf("it was worked out %d times, want %d", tries, c.tries)
			case s.State().Revision.Number != want:
				t.Errorf("the revision is %d, want %d", s.State().Revision.Number, want)
			}
			dump := dumped(t, s)
			if c.name != "" && strings.Count(dump, `"name": "`+c.name+`"`) != people {
				t.Errorf("%d newcomers are called %s, want %d", strings.Count(dump, `"name": "`+c.name+`"`), c.name, people)
			}
			if u, ok := policy.Find[*policy.User](s.State().Policy, "newcomer.00000"); name == "one of its records" && (!ok || u.Valid.Until.IsZero()) {
				t.Error("the end that somebody gave a newcomer meanwhile is lost")
			}
			if _, err := s.borders.Files.Verify(t.Context()); err != nil {
				t.Error(err)
			}
		})
	}
}

// TestALargeChangeIsUndone: a sheet of people and of their memberships, taken back, leaves what was there; and neither way is half done when
// the key of its request comes again.
func TestALargeChangeIsUndone(t *testing.T) {
	s, caller := larkmere(t)
	before := dumped(t, s)
	var members strings.Builder
	members.WriteString("group,user,until\n")
	for i := range manyRows {
		fmt.Fprintf(&members, "bridge-crew,newcomer.%05d,2027-01-01T00:00:00Z\n", i)
	}
	keyed := EditOptions{Asked: Asked{Key: "once"}}
	for range 2 {
		if _, err := s.Import(t.Context(), caller, "users", peopleSheet(manyRows, "Newcomer"), keyed); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := s.Import(t.Context(), caller, "members", []byte(members.String()), EditOptions{}); err != nil {
		t.Fatal(err)
	}
	imported := s.State().Revision.Number
	if imported != 3 {
		t.Fatalf("two sheets, one of them sent twice, made revision %d", imported)
	}
	for _, revision := range []uint64{imported, imported - 1} {
		if _, err := s.Undo(t.Context(), caller, []uint64{revision}, EditOptions{}); err != nil {
			t.Fatal(err)
		}
	}
	if dumped(t, s) != before {
		t.Error("what was there before the sheets is not there after them")
	}
	if _, err := s.borders.Files.Verify(context.Background()); err != nil {
		t.Error(err)
	}
}
