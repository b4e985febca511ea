package policy_test

import (
	"reflect"
	"testing"

	"sentier/internal/demo"
	"sentier/internal/policy"
)

func parts(t testing.TB, p *policy.Policy) []policy.Part {
	t.Helper()
	var out []policy.Part
	err := p.Picture(func(part policy.Part) error {
		part.Body = append([]byte{}, part.Body...)
		out = append(out, part)
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return out
}

// TestAPictureIsThePolicy: what is read from it is the same, to the last field, as what it was made of.
func TestAPictureIsThePolicy(t *testing.T) {
	larkmere, err := demo.Policy()
	if err != nil {
		t.Fatal(err)
	}
	grown, err := demo.Grown(9000, 5000)
	if err != nil {
		t.Fatal(err)
	}
	for _, p := range []*policy.Policy{policy.Empty(), larkmere, grown} {
		q, err := policy.FromPicture(parts(t, p))
		if err != nil {
			t.Fatal(err)
		}
		if d := p.Compare(q); len(d) > 0 || p.Len() != q.Len() {
			t.Fatalf("%d of %d records differ, the first %+v", len(d), p.Len(), d[0])
		}
		for _, typ := range append(policy.Types(), policy.SettingsType) {
			for r := range p.Table(typ).All() {
				again, ok := q.Get(typ, r.Key())
				if !ok || !reflect.DeepEqual(r, again) {
					t.Fatalf("%s %s is read as %+v, and was %+v", typ, r.Key(), again, r)
				}
			}
		}
	}
}

// FuzzPicture: whatever bytes there are, reading them ends with an error or a policy, and not with the program.
func FuzzPicture(f *testing.F) {
	larkmere, err := demo.Policy()
	if err != nil {
		f.Fatal(err)
	}
	for _, part := range parts(f, larkmere) {
		f.Add(uint8(part.Type), part.Count, part.Body[:min(len(part.Body), 400)])
	}
	settings := parts(f, policy.Empty())[0]
	f.Fuzz(func(t *testing.T, typ uint8, count int, body []byte) {
		if count < 0 || count > 5000 || int(typ) > len(policy.Types()) {
			return
		}
		_, _ = policy.FromPicture([]policy.Part{settings, {Type: policy.Type(typ), Count: count, Body: body}})
	})
}
