package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"time"

	"sentier/internal/audit"
	"sentier/internal/demo"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// recorded lists the entries of some kinds, oldest first.
func recorded(t *testing.T, s *Service, kinds ...audit.Kind) (out []audit.Entry) {
	t.Helper()
	err := s.borders.Record.Each(context.Background(), audit.Filter{Kinds: kinds}, func(e *audit.Entry) error {
		out = append(out, *e)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestRefusalsAreCountedTogether: the first is on record at once, and those of the next minute as one entry; what is another is by itself.
func TestRefusalsAreCountedTogether(t *testing.T) {
	t.Parallel()
	now := demo.Written
	s, _ := on(t, func() time.Time { return now })
	tries := Caller{User: "tomas.field", Via: "token", Token: "one", From: "10.20.3.4"}
	for range 100 {
		s.Refused(tries, Refusal{What: "the whole policy", Route: "GET /api/v1/policy", Missing: "a mandate"})
	}
	s.Refused(tries, Refusal{What: "a token", Route: "POST /api/v1/tokens", Missing: "a mandate"})
	s.Refused(Caller{User: "noor.haddad"}, Refusal{What: "the whole policy", Route: "GET /api/v1/policy", Missing: "a mandate"})
	if n := len(recorded(t, s, audit.Refusal)); n != 3 {
		t.Fatalf("%d refusals are on record at once, want 3", n)
	}
	now = now.Add(foldTime - time.Second)
	s.keepFolds(false)
	if n := len(recorded(t, s, audit.Refusal)); n != 3 {
		t.Errorf("%d before the minute is over", n)
	}
	now = now.Add(time.Second)
	s.keepFolds(false)
	list := recorded(t, s, audit.Refusal)
	var more struct {
		What  string
		Times int
	}
	if len(list) != 4 {
		t.Fatalf("%d after the minute, want 4", len(list))
	}
	if err := json.Unmarshal(list[3].More, &more); err != nil || more.Times != 99 || more.What != "the whole policy" || list[3].By != "tomas.field" || list[3].From != "10.20.3.4" {
		t.Errorf("the others are %+v: %s (%v)", list[3], list[3].More, err)
	}
	s.Refused(tries, Refusal{What: "the whole policy", Route: "GET /api/v1/policy", Missing: "a mandate"})
	s.Refused(tries, Refusal{What: "the whole policy", Route: "GET /api/v1/policy", Missing: "a mandate"})
	s.keepFolds(true) // as when the service ends
	if n := len(recorded(t, s, audit.Refusal)); n != 6 {
		t.Errorf("%d at the end, want 6", n)
	}
	// However many kinds there are, what is counted has a bound, and nothing is lost beyond it.
	for i := range mostFolded + 50 {
		if !s.folds.first(folding{kind: audit.Refusal, what: fmt.Sprint(i)}, now) {
			t.Fatalf("number %d is not kept", i)
		}
	}
	if len(s.folds.since) > mostFolded {
		t.Errorf("%d kinds of refusals are counted at once", len(s.folds.since))
	}
}

// on is a service on a fresh folder with the demonstration, by a clock.
func on(t *testing.T, clock func() time.Time) (*Service, *store.Store) {
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
	if err := Begin(t.Context(), st, Beginning{Owner: "ines.carvalho", Password: "larkmere-demo", Policy: p}, clock()); err != nil {
		t.Fatal(err)
	}
	s, err := Open(t.Context(), On(st, specimen.Record(t, st.Dir(), clock), slog.New(slog.DiscardHandler), clock))
	if err != nil {
		t.Fatal(err)
	}
	close(s.checked)
	return s, st
}

// TestARevisionWithoutItsEntryIsEntered: where the service was ended between the two, the next start makes the record whole; and a database
// that was put back from a copy is told.
func TestARevisionWithoutItsEntryIsEntered(t *testing.T) {
	t.Parallel()
	now := demo.Written
	s, st := on(t, func() time.Time { return now })
	owner := Caller{User: "ines.carvalho", Via: "test"}
	edit := func(n int) {
		t.Helper()
		_, err := s.Edit(t.Context(), owner, wire.Edits{Note: fmt.Sprintf("number %d", n), Changes: []wire.Edit{{Op: "patch", Type: "users", ID: "tomas.field", Record: json.RawMessage(fmt.Sprintf(`{"email":"t%d@larkmere.example"}`, n))}}}, EditOptions{})
		if err != nil {
			t.Fatal(err)
		}
	}
	edit(1)
	before := len(recorded(t, s, audit.Change))
	// Two revisions whose entries are lost, as by a kill.
	kept := s.borders.Record
	s.borders.Record = silent{kept}
	edit(2)
	edit(3)
	s.borders.Record = kept
	if n := len(recorded(t, s, audit.Change)); n != before {
		t.Fatalf("%d changes are on record, want %d", n, before)
	}
	if err := s.beginRecord(t.Context()); err != nil {
		t.Fatal(err)
	}
	list := recorded(t, s, audit.Change)
	if len(list) != before+2 {
		t.Fatalf("%d changes are on record after the next start, want %d", len(list), before+2)
	}
	last := list[len(list)-1]
	if last.Revision != s.State().Revision.Number || last.User != "tomas.field" || last.By != "ines.carvalho" || !strings.Contains(string(last.More), "number 3") {
		t.Errorf("the last is %+v: %s", last, last.More)
	}
	if err := s.beginRecord(t.Context()); err != nil || len(recorded(t, s, audit.Change)) != before+2 {
		t.Errorf("what is on record is entered again (%v)", err)
	}
	// The record knows more than the database.
	behind := *s.State()
	behind.Revision.Number--
	s.current.Store(&behind)
	if err := s.beginRecord(t.Context()); err != nil {
		t.Fatal(err)
	}
	if told := recorded(t, s, audit.Service); !strings.Contains(string(told[len(told)-1].More), "put back from a copy") {
		t.Errorf("of a database that was put back it says %s", told[len(told)-1].More)
	}
	_ = st
}

// silent is a record that loses what was done.
type silent struct{ Record }

func (silent) Note(audit.Entry) {}

// TestATokenIsJudgedByItsMandateAlone: of somebody with several, the one that it names; of one that is not theirs, nothing.
func TestATokenIsJudgedByItsMandateAlone(t *testing.T) {
	t.Parallel()
	now := demo.Written
	s, _ := on(t, func() time.Time { return now })
	owner := Caller{User: "ines.carvalho", Via: "test"}
	var mandate policy.MandateID
	for m := range policy.Each[*policy.Mandate](s.State().Policy) {
		if m.Role == policy.Auditor {
			mandate = m.ID
		}
	}
	if mandate == "" {
		t.Fatal("nobody is an auditor")
	}
	for do, allowed := range map[Action]bool{Read: true, Write: true, Manage: true} {
		if err := s.Permit(s.State(), owner, do, ""); (err == nil) != allowed {
			t.Errorf("the owner, %s: %v", do, err)
		}
	}
	// The auditor's mandate is not the owner's: with a token that names it nothing is left.
	bound := owner
	bound.Mandate = mandate
	for _, do := range []Action{Ask, Read, Write, Manage} {
		var forbidden *ForbiddenError
		if err := s.Permit(s.State(), bound, do, "noor.haddad"); !errors.As(err, &forbidden) {
			t.Errorf("with the mandate of another, %s: %v", do, err)
		}
	}
	if err := s.Permit(s.State(), bound, Ask, "ines.carvalho"); err != nil {
		t.Errorf("about themself: %v", err)
	}
}
