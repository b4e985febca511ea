package container

import (
	"maps"
	"math/rand/v2"
	"testing"
)

// TestMapsKeepWhatTheyWere forks maps at random and changes the forks; each, old ones too, holds what a map of the language does.
func TestMapsKeepWhatTheyWere(t *testing.T) {
	t.Parallel()
	type version struct {
		m    Map[int, string]
		want map[int]string
	}
	r := rand.New(rand.NewPCG(3, 14))
	versions := []version{{want: map[int]string{}}}
	for range 300 {
		old := &versions[r.IntN(len(versions))]
		next := version{old.m.Fork(), maps.Clone(old.want)}
		for range r.IntN(60) {
			key, value := r.IntN(400), string(rune('a'+r.IntN(26)))
			if r.IntN(3) == 0 {
				next.m.Delete(key)
				delete(next.want, key)
				continue
			}
			next.m.Set(key, value)
			next.want[key] = value
		}
		versions = append(versions, next)
	}
	for i := range versions {
		v := &versions[i]
		if got := maps.Collect(v.m.All); !maps.Equal(got, v.want) || v.m.Len() != len(v.want) {
			t.Fatalf("version %d of %d entries holds %v, want %v", i, v.m.Len(), got, v.want)
		}
		for key := range 400 {
			got, ok := v.m.Get(key)
			if want, there := v.want[key]; ok != there || got != want {
				t.Fatalf("version %d: %d is %q, %v, want %q", i, key, got, ok, want)
			}
		}
	}
}
