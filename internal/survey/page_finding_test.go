package survey_test

import (
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// onPage is a policy at an instant, of which the page is asked what taking something away would change.
type onPage struct {
	p  *policy.Policy
	at time.Time
}

// without tells what taking something away comes to for some users: whether any answer, or its limits, would be another, and whether anything is possible by what is
// taken at all, or would be without a denial.
func (x onPage) without(t *testing.T, changes []policy.Change, users []policy.UserID, bears func(resource) bool) (changed, possible bool) {
	t.Helper()
	next, _, err := x.p.Apply(changes)
	if err != nil {
		t.Fatal(err)
	}
	for _, u := range users {
		for d := range policy.Each[*policy.Device](x.p) {
			for _, point := range []policy.PointID{"", "a"} {
				for right := range policy.Each[*policy.Right](x.p) {
					r := resource{u, d.ID, point, right.ID}
					if !bears(r) {
						continue
					}
					b := specimen.ReadBeside(x.p, next, r.question(x.at, decision.Context{}))
					back := b.Back()
					possible = possible || back.Possible().Degree != "impossible"
					for _, c := range []specimen.Chance{b.Gained(), back.Gained(), b.Looser(), back.Looser()} {
						if c.Degree != "impossible" {
							return true, true
						}
					}
				}
			}
		}
	}
	return false, possible
}

// TestFindingsAreWhatThePageSays: a grant is told as covered, and a person as named beside a group, exactly where the page says that nothing changes without it, no
// answer, no limit and nobody who has yet to come in; and of a membership that is told as idle, the same.
func TestFindingsAreWhatThePageSays(t *testing.T) {
	t.Parallel()
	var mu sync.Mutex
	seen := map[string]int{}
	seeded(t, 12, func(seed uint64) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 2032))}
		x := onPage{m.Limited(t, m.Whole(t)), specimen.Probes[m.IntN(len(specimen.Probes))]}
		told := map[string]bool{}
		c := decision.Compile(x.p)
		for _, f := range survey.Of(c).Upkeep(x.at).Found {
			told[f.Key()] = true
			if f.Kind == survey.IdleMembership {
				user := policy.UserID(f.Of[0].ID)
				if changed, _ := x.without(t, f.Mends[0].Changes, []policy.UserID{user}, func(resource) bool { return true }); changed {
					t.Errorf("seed %d: %s, and the page says that something changes without it", seed, f.Key())
				}
			}
		}
		everybody := []policy.UserID{}
		for u := range policy.Each[*policy.User](x.p) {
			everybody = append(everybody, u.ID)
		}
		same := 0
		for g := range policy.Each[*policy.Grant](x.p) {
			if g.Effect == policy.Deny || g.Enabled == policy.Off || !g.Valid.Until.IsZero() && !g.Valid.Until.After(x.at) {
				continue
			}
			remove := []policy.Change{{Op: policy.Remove, Type: policy.Grants, ID: string(g.ID)}}
			changed, possible := x.without(t, remove, everybody, func(r resource) bool {
				return specimen.Read(x.p, r.question(x.at, decision.Context{})).Concerned(g, x.at)
			})
			if key := "covered grants/" + string(g.ID); told[key] && changed || !told[key] && possible && !changed {
				t.Errorf("seed %d: %s is told %t; the page says that it gives anything %t, and that something changes without it %t", seed, key, told[key], possible, changed)
			}
			same += decision.Bit(possible && !changed)
		}
		mu.Lock()
		defer mu.Unlock()
		seen["covered"] += same
		for key := range told {
			seen[key[:9]]++
		}
	})
	t.Log(fmt.Sprint(seen))
	if seen["covered"] < 1 || seen["idle_memb"] < 3 {
		t.Errorf("too few of some: %v", seen)
	}
}
