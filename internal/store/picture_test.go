package store

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"sentier/internal/database"
	"sentier/internal/demo"
	"sentier/internal/policy"
)

// grown is a folder with a policy that is large enough for a picture, which was kept.
func grown(t *testing.T) (dir string, p *policy.Policy) {
	t.Helper()
	dir, worthPicture = t.TempDir(), 1000
	p, err := demo.Grown(worthPicture, 10)
	if err != nil {
		t.Fatal(err)
	}
	s := opened(t, dir)
	save(t, s, 1, &policy.Policy{}, p)
	keep(t, s, p)
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	return dir, p
}

func keep(t *testing.T, s *Store, p *policy.Policy) {
	t.Helper()
	if err := s.KeepPicture(p, *s.last); err != nil {
		t.Fatal(err)
	}
}

// TestAStartFromAPicture: it is taken where it fits, with what was changed since; and where it does not, the rows are read.
func TestAStartFromAPicture(t *testing.T) {
	whole, p := grown(t)
	kept, err := os.ReadFile(filepath.Join(whole, PictureName))
	if err != nil {
		t.Fatal(err)
	}
	flip := func(at int) []byte {
		out := append([]byte{}, kept...)
		out[at] ^= 4
		return out
	}
	for name, c := range map[string]struct {
		picture []byte // nil: none
		taken   bool
	}{
		"as it was kept":            {kept, true},
		"none":                      {nil, false},
		"one that was cut":          {kept[:len(kept)-100], false},
		"one with more":             {append(append([]byte{}, kept...), 'x'), false},
		"an empty one":              {[]byte{}, false},
		"of another form":           {flip(len(pictureMagic) + 3), false},
		"of another revision":       {flip(len(pictureMagic) + 15), false},
		"with another number":       {flip(pictureHead - 9), false},
		"with a bit in a head":      {flip(pictureHead + 2), false},
		"with a bit in the middle":  {flip(len(kept) / 2), false},
		"with a bit near the end":   {flip(len(kept) - 3), false},
		"of another database's end": {[]byte(strings.Repeat("x", pictureHead+50)), false},
	} {
		if c.picture == nil {
			if err := os.Remove(filepath.Join(whole, PictureName)); err != nil {
				t.Fatal(err)
			}
		} else if err := os.WriteFile(filepath.Join(whole, PictureName), c.picture, 0o600); err != nil {
			t.Fatal(err)
		}
		s := opened(t, whole)
		q, last, err := s.Load(context.Background())
		if err != nil || last.Number != 1 || len(p.Compare(q)) != 0 || s.pictured != c.taken {
			t.Errorf("%s: taken %t, want %t; revision %d, %v", name, s.pictured, c.taken, last.Number, err)
		}
		if err := s.CheckRows(context.Background()); err != nil {
			t.Errorf("%s: %v", name, err)
		}
		if err := s.Close(); err != nil {
			t.Fatal(err)
		}
	}
}

// TestAPictureThatIsBehind: what came after it is read from the database, and a revision can follow.
func TestAPictureThatIsBehind(t *testing.T) {
	dir, p := grown(t)
	s := opened(t, dir)
	if !s.pictured {
		t.Fatal("the picture was not taken")
	}
	for n, c := range []policy.Change{
		{Op: policy.Add, Type: policy.UserGroups, ID: "bridge-crew", List: "members", Entry: policy.Entry{Value: "noor.haddad", Until: time.Date(2026, 12, 1, 0, 0, 0, 0, time.UTC)}},
		{Op: policy.Patch, Type: policy.Devices, ID: "mill-bridge", Patch: []byte(`{"state": "maintenance", "tags": null}`)},
		{Op: policy.Put, Type: policy.Kinds, ID: "crane", Record: &policy.Kind{ID: "crane", Name: "Crane"}},
		{Op: policy.Remove, Type: policy.Kinds, ID: "crane"},
	} {
		next, _, err := p.Apply([]policy.Change{c})
		if err != nil {
			t.Fatal(err)
		}
		save(t, s, uint64(n+2), p, next)
		p = next
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = opened(t, dir)
	q, last, err := s.Load(context.Background())
	if err != nil || !s.pictured || last.Number != 5 || len(p.Compare(q)) != 0 {
		t.Fatalf("from a picture %t, revision %d with %d differences, %v", s.pictured, last.Number, len(p.Compare(q)), err)
	}
	if err := s.CheckRows(context.Background()); err != nil {
		t.Error(err)
	}
	// Rows that are not what they were are found once somebody looks, though the answers come from the picture.
	if err := s.writer.Exec("UPDATE records SET body = replace(body, 'Mill bridge', 'Mill bridges') WHERE id = 'mill-bridge'").Error; err != nil {
		t.Fatal(err)
	}
	if err := s.CheckRows(context.Background()); err == nil || !strings.Contains(err.Error(), "revision 5") {
		t.Errorf("a changed row is not found: %v", err)
	}
}

// TestTheChainBelowAPicture is not read before the service answers, and what is wrong there is told once it was read.
func TestTheChainBelowAPicture(t *testing.T) {
	dir, _ := grown(t)
	s := opened(t, dir)
	if err := s.head.Update(func(m *database.Mark) { m.Verified = 0 }); err != nil {
		t.Fatal(err)
	}
	if err := s.writer.Exec("UPDATE changes SET after = replace(after, 'Mill', 'Mall')").Error; err != nil {
		t.Fatal(err)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = opened(t, dir)
	if !s.pictured {
		t.Fatal("the picture was not taken")
	}
	if err := s.CheckRows(context.Background()); err == nil || !strings.Contains(err.Error(), "revision 1") {
		t.Errorf("a changed history is not found: %v", err)
	}
}
