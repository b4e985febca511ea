package survey_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

// TestReachMatrixAndDecisionsNeverDisagree asks random policies the same in every way there is.
func TestReachMatrixAndDecisionsNeverDisagree(t *testing.T) {
	t.Parallel()
	for seed := range uint64(60) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 5))}
		p := m.Whole(t)
		c := decision.Compile(p)
		users, devices := ids[*policy.User](p), ids[*policy.Device](p)
		for _, at := range specimen.Probes {
			in := survey.Circumstances{At: at}
			byUser, byDevice := map[string]string{}, map[string]string{}
			for _, u := range users {
				reach, _ := survey.Of(c).DevicesOf(policy.UserID(u), in)
				collect(t, reach, func(key, rights string) { byUser[u+" "+key] = rights })
			}
			var rows []survey.Who
			var columns []survey.What
			for _, u := range users {
				rows = append(rows, survey.Who{User: policy.UserID(u)})
			}
			for _, d := range devices {
				columns = append(columns, survey.What{Device: policy.DeviceID(d)})
				for _, point := range []policy.PointID{"", "a"} {
					reach, _ := survey.Of(c).UsersOf(policy.DeviceID(d), point, in)
					collect(t, reach, func(key, rights string) {
						byDevice[key+" "+(survey.Reached[policy.DeviceID]{ID: policy.DeviceID(d), Point: point}).Key()] = rights
					})
				}
			}
			matrix := survey.Of(c).Matrix(rows, columns, in)
			holdersAreThoseWhoReach(t, c, devices, survey.Circumstances{At: at, Degrees: survey.AllDegrees})
			for i, u := range users {
				for k, d := range devices {
					plain := rightsByDeciding(c, u, d, "", at)
					told := map[string]string{
						"the user's reach": byUser[u+" "+d], "the device's reach": byDevice[u+" "+d],
						"the matrix": none(fmt.Sprint(matrix.Kinds[matrix.Cells[i][k]].Rights)),
					}
					for by, rights := range told {
						if rights != plain {
							t.Fatalf("seed %d: %s on %s at %s: deciding gives %q, %s %q", seed, u, d, at, plain, by, rights)
						}
					}
					point := rightsByDeciding(c, u, d, "a", at)
					if got := byDevice[u+" "+d+"/a"]; got != point {
						t.Fatalf("seed %d: %s on %s/a at %s: deciding gives %q, the point's reach %q", seed, u, d, at, point, got)
					}
					if got, listed := byUser[u+" "+d+"/a"]; listed != (point != "" && point != plain) || listed && got != point {
						t.Fatalf("seed %d: %s on %s/a at %s: deciding gives %q, the user's reach %q", seed, u, d, at, point, got)
					}
				}
			}
		}
	}
}

// holdersAreThoseWhoReach counts who has which right on each device one by one.
func holdersAreThoseWhoReach(t *testing.T, c *decision.Compiled, devices []string, in survey.Circumstances) {
	t.Helper()
	var asked []policy.DeviceID
	for _, d := range devices {
		asked = append(asked, policy.DeviceID(d))
	}
	for i, held := range survey.Of(c).HoldersOf(asked, in) {
		want := map[policy.RightID][survey.Now + 1]int{}
		reach, _ := survey.Of(c).UsersOf(asked[i], "", in)
		for _, r := range reach.Page("", reach.Total) {
			for _, p := range r.Rights {
				n := want[p.Right]
				n[p.Degree]++
				want[p.Right] = n
			}
		}
		got := map[policy.RightID][survey.Now + 1]int{}
		for _, h := range held {
			got[h.Right] = h.Totals
		}
		if !maps.Equal(got, want) {
			t.Fatalf("on %s at %s %v are counted, and its reach has %v", asked[i], in.At, got, want)
		}
	}
}

// none writes no rights as nothing.
func none(rights string) string {
	if rights == "[]" {
		return ""
	}
	return rights
}

func ids[R policy.Record](p *policy.Policy) []string {
	var out []string
	for r := range policy.Each[R](p) {
		out = append(out, r.Key())
	}
	return out
}

// collect reads a reach by pages of two, and holds their total and order.
func collect[ID ~string](t *testing.T, reach *survey.Reach[ID], add func(key, rights string)) {
	t.Helper()
	after, n := "", 0
	for {
		page := reach.Page(after, 2)
		for _, r := range page {
			if r.Key() <= after {
				t.Fatalf("%s comes after %s", r.Key(), after)
			}
			after = r.Key()
			add(after, fmt.Sprint(rightsIn(r, survey.Now)))
			n++
		}
		if len(page) < 2 {
			break
		}
	}
	if n != reach.Total || len(reach.IDs()) != n {
		t.Fatalf("the pages hold %d, the total is %d and the ids are %d", n, reach.Total, len(reach.IDs()))
	}
}

// rightsIn lists the rights of what is reached that are possible in a degree.
func rightsIn[ID ~string](r survey.Reached[ID], degree survey.Degree) []policy.RightID {
	var out []policy.RightID
	for _, p := range r.Rights {
		if p.Degree == degree {
			out = append(out, p.Right)
		}
	}
	return out
}

func rightsByDeciding(c *decision.Compiled, u, d string, point policy.PointID, at time.Time) string {
	var out []policy.RightID
	for r := range policy.Each[*policy.Right](c.Policy()) {
		if c.Decide(&decision.Question{User: policy.UserID(u), Device: policy.DeviceID(d), Point: point, Right: r.ID, At: at}).Allowed {
			out = append(out, r.ID)
		}
	}
	return none(fmt.Sprint(out))
}

func TestMatrixOfGroupsPlacesAndOtherTimes(t *testing.T) {
	c := specimen.Compile(t, specimen.Corner)
	at := specimen.Instant(t, "2026-11-24T06:00:00Z") // day opens at 08:00
	rows := []survey.Who{{Group: "crew"}, {User: "ana"}, {User: "nobody"}}
	columns := []survey.What{{Site: "top"}, {Group: "outer"}, {Device: "pump-1"}, {Device: "none"}}
	m := survey.Of(c).Matrix(rows, columns, survey.Circumstances{At: at, Degrees: survey.AllDegrees})
	got := map[string]string{}
	for i, row := range rows {
		for k, column := range columns {
			cell := m.Kinds[m.Cells[i][k]]
			got[fmt.Sprint(row, column)] = fmt.Sprint(cell.Rights, cell.Some, cell.Later, cell.If)
		}
	}
	want := map[string]string{
		"{ crew} {  top}": "[] [control view] [setpoint] []", "{ crew} { outer }": "[control view] [] [setpoint] []",
		"{ crew} {pump-1  }": "[control view] [] [setpoint] []", "{ crew} {none  }": "[] [] [] []",
		"{ana } {  top}": "[] [control view] [setpoint] []", "{ana } { outer }": "[control view] [] [setpoint] []",
		"{ana } {pump-1  }": "[control view] [] [setpoint] []", "{ana } {none  }": "[] [] [] []",
		"{nobody } {  top}": "[] [] [] []", "{nobody } { outer }": "[] [] [] []", "{nobody } {pump-1  }": "[] [] [] []", "{nobody } {none  }": "[] [] [] []",
	}
	for _, key := range slices.Sorted(maps.Keys(want)) {
		if got[key] != want[key] {
			t.Errorf("%s: %s, want %s", key, got[key], want[key])
		}
	}
}
