package container

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
)

type id string

// TestIndexesKeepWhatTheyWere changes indexes at random and holds each version, old ones too, against a map.
func TestIndexesKeepWhatTheyWere(t *testing.T) {
	t.Parallel()
	type version struct {
		index Index
		want  map[string]int32
	}
	random := rand.New(rand.NewPCG(1, 2))
	versions := []version{{newIndex(0), map[string]int32{}}}
	for range 300 {
		old := versions[random.IntN(len(versions))]
		want, puts := maps.Clone(old.want), map[string]Slot{}
		for range random.IntN(60) {
			key := fmt.Sprint("key-", random.IntN(400))
			if random.IntN(3) == 0 {
				puts[key] = Slot{}
				delete(want, key)
				continue
			}
			n := int32(random.IntN(1000))
			puts[key] = Slot{key: key, Class: n, hash: 1}
			want[key] = n
		}
		versions = append(versions, version{old.index.with(puts), want})
	}
	for i, v := range versions {
		found := 0
		for n := range 400 {
			key := fmt.Sprint("key-", n)
			s, want := v.index.Find(key), v.want[key]
			_, there := v.want[key]
			if (s != nil) != there || s != nil && s.Class != want {
				t.Fatalf("version %d: %s is %+v, want %d (%t)", i, key, s, want, there)
			}
			if s != nil {
				found++
			}
		}
		if found != len(v.want) {
			t.Fatalf("version %d holds %d, want %d", i, found, len(v.want))
		}
	}
}

func TestRollsStaySortedAndKeepWhatTheyWere(t *testing.T) {
	t.Parallel()
	random := rand.New(rand.NewPCG(3, 4))
	var start []string
	for i := range 2000 {
		start = append(start, fmt.Sprintf("%05d", 3*i))
	}
	r, want := RollOf(slices.Clone(start)), slices.Clone(start)
	for range 3000 {
		id := fmt.Sprintf("%05d", random.IntN(6200))
		at, there := slices.BinarySearch(want, id)
		if random.IntN(2) == 0 {
			r = r.with(id)
			if !there {
				want = slices.Insert(slices.Clone(want), at, id)
			}
		} else {
			r = r.Without(id)
			if there {
				want = slices.Delete(slices.Clone(want), at, at+1)
			}
		}
	}
	if got := slices.Concat(r.Parts...); !slices.Equal(got, want) || r.Size != len(want) {
		t.Fatalf("the roll holds %d, %d by its size, want %d", len(got), r.Size, len(want))
	}
	for _, part := range r.Parts {
		if len(part) == 0 || len(part) > rollPart+1 {
			t.Errorf("a part holds %d", len(part))
		}
	}
	for _, from := range []string{"", "00003", "00004", want[len(want)-1], "99999"} {
		at, _ := slices.BinarySearch(want, from)
		if got := r.From(from, 700); !slices.Equal(got, want[at:min(at+700, len(want))]) {
			t.Errorf("from %q on there are %d", from, len(got))
		}
	}
	if first := RollOf(slices.Clone(start)); !slices.Equal(slices.Concat(first.Parts...), start) {
		t.Error("the first roll has changed")
	}
}

func TestSectionsKeepWhatTheyWere(t *testing.T) {
	d := (Sections[int]{}).draft()
	for i := range 700 {
		if n := d.add(i); int(n) != i {
			t.Fatalf("entry %d has the number %d", i, n)
		}
	}
	before := d.Sections
	next := before.draft()
	*next.edit(3), *next.edit(699) = -3, -699
	next.add(700)
	for i := range int32(700) {
		if *before.At(i) != int(i) {
			t.Errorf("entry %d of the list before is %d", i, *before.At(i))
		}
	}
	if *next.At(3) != -3 || *next.At(4) != 4 || *next.At(699) != -699 || *next.At(700) != 700 || next.Size != 701 {
		t.Error("the list after is not as it was changed")
	}
}

// TestFindingManyIsFindingEach looks for some that are there and some that are not, in indexes of several sizes and after changes.
func TestFindingManyIsFindingEach(t *testing.T) {
	type class struct{ number int }
	random := rand.New(rand.NewPCG(7, 8))
	for _, n := range []int{0, 1, 20, 3000, 20_000} {
		var c Crowd[id, class]
		into := Gather(&c, n)
		for i := range n {
			into.Add(id(fmt.Sprintf("user-%06d", i)), []byte(fmt.Sprint(i%17)), func() class { return class{number: i} })
		}
		into.End()
		if n > 0 {
			moving := Move(&c)
			moving.Remove(id(fmt.Sprintf("user-%06d", n/2)))
			moving.Put("user-new", []byte("new"), func() class { return class{number: n} })
			moving.End()
		}
		for range 50 {
			ids := make([]id, random.IntN(Together+1))
			for i := range ids {
				ids[i] = id(fmt.Sprintf("user-%06d", random.IntN(2*n+1)))
				if random.IntN(10) == 0 {
					ids[i] = []id{"", "user-new", "other"}[random.IntN(3)]
				}
			}
			var many [Together]*class
			c.FindMany(len(ids), func(i int) id { return ids[i] }, &many)
			for i, id := range ids {
				if many[i] != c.Find(id) {
					t.Fatalf("of %d: %q is another among many", n, id)
				}
			}
		}
	}
}
