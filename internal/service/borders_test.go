package service

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"testing"
	"time"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// failing are revisions that cannot be kept, or are kept and can be followed by no other.
type failing struct {
	Revisions
	with error
}

func (f *failing) Append(ctx context.Context, r *store.Revision, done []policy.RecordChange, how store.Saving) error {
	if errors.Is(f.with, store.ErrUnmarked) {
		if err := f.Revisions.Append(ctx, r, done, how); err != nil {
			return err
		}
	}
	return f.with
}

func rename(s *Service, c Caller, to string) (wire.Saved, error) {
	return s.Patch(context.Background(), c, "users", "tomas.field", fmt.Appendf(nil, `{"name":%q}`, to), EditOptions{})
}

// TestARevisionThatIsNotKept changes nothing that anybody sees, and says why; what cannot be followed stands, and is the last.
func TestARevisionThatIsNotKept(t *testing.T) {
	s, owner := larkmere(t)
	kept := s.borders.Revisions
	before := s.State()
	name := func() string {
		r, _ := s.State().Policy.Get(policy.Users, "tomas.field")
		return r.Title()
	}

	s.borders.Revisions = &failing{kept, store.ErrFull}
	var full *FullError
	if _, err := rename(s, owner, "Tomas One"); !errors.As(err, &full) || s.State() != before {
		t.Fatalf("on a full disk: %v, and the state is another: %t", err, s.State() != before)
	}
	if status, err := s.Ready(); err != nil || status == "ready" {
		t.Errorf("on a full disk the service says %q", status)
	}

	s.borders.Revisions = &failing{kept, errors.New("the line is cut")}
	if _, err := rename(s, owner, "Tomas Two"); err == nil || err.Error() != "the line is cut" || s.State() != before {
		t.Fatalf("where nothing is kept: %v", err)
	}

	s.borders.Revisions = kept
	if saved, err := rename(s, owner, "Tomas Three"); err != nil || !saved.Saved || name() != "Tomas Three" {
		t.Fatalf("once there is room: %v, %s", err, name())
	}
	if status, err := s.Ready(); err != nil || status != "ready" {
		t.Errorf("once there is room the service says %q, %v", status, err)
	}

	s.borders.Revisions = &failing{kept, store.ErrUnmarked}
	if saved, err := rename(s, owner, "Tomas Four"); err != nil || !saved.Saved || name() != "Tomas Four" {
		t.Fatalf("a revision that was kept is told as lost: %v", err)
	}
	s.borders.Revisions = kept
	var unsafe *UnsafeError
	if _, err := rename(s, owner, "Tomas Five"); !errors.As(err, &unsafe) || name() != "Tomas Four" {
		t.Errorf("after a revision that was not marked another is made: %v", err)
	}
}

// TestRightsAreJudgedUnderTheLock: who loses a mandate while a change of theirs waits does not make it.
func TestRightsAreJudgedUnderTheLock(t *testing.T) {
	s, owner := larkmere(t)
	deputy := Caller{User: "bram.okafor", Via: "test"}
	if err := s.May(&deputy, Write); err != nil {
		t.Fatal(err)
	}
	s.writing.Lock()
	done := make(chan error)
	go func() {
		_, err := rename(s, deputy, "By the deputy")
		done <- err
	}()
	s.writing.Unlock()
	if err := <-done; err != nil {
		t.Fatalf("a deputy may rename: %v", err)
	}
	if _, err := s.Patch(t.Context(), owner, "mandates", "deputy", []byte(`{"enabled":false}`), EditOptions{}); err != nil {
		t.Fatal(err)
	}
	// The rights that were found at the beginning of the request are of another state, and are not used.
	var forbidden *ForbiddenError
	if _, err := rename(s, deputy, "Once more"); !errors.As(err, &forbidden) {
		t.Errorf("a deputy without a mandate renames: %v", err)
	}
	if _, err := rename(s, Caller{User: "nobody"}, "By nobody"); !errors.Is(err, ErrCredential) {
		t.Errorf("nobody renames: %v", err)
	}
}

// TestFollowing tells every revision once, those that are past first, and ends with the mandate.
func TestFollowing(t *testing.T) {
	s, owner := larkmere(t)
	if _, err := rename(s, owner, "First"); err != nil {
		t.Fatal(err)
	}
	first := s.State().Revision.Number
	var seen []uint64
	ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
	defer stop()
	var renaming sync.WaitGroup // whoever follows is told before the record has it
	defer renaming.Wait()
	err := s.Follow(ctx, owner, first-1, time.Hour, func(e *wire.Event) error {
		seen = append(seen, e.Revision)
		if len(e.Changes) != 1 || e.Changes[0].ID != "tomas.field" || e.By != "ines.carvalho" {
			t.Errorf("an event says %+v", e)
		}
		switch len(seen) {
		case 1:
			renaming.Go(func() {
				if _, err := rename(s, owner, "Second"); err != nil {
					t.Error(err)
				}
			})
		case 2:
			return errors.New("enough")
		}
		return nil
	})
	if err == nil || err.Error() != "enough" || len(seen) != 2 || seen[0] != first || seen[1] != first+1 {
		t.Errorf("followed %v, %v", seen, err)
	}
	if err := s.Follow(ctx, Caller{User: "tomas.field"}, 0, time.Hour, func(*wire.Event) error { return nil }); err == nil {
		t.Error("somebody without a mandate follows")
	}
}
