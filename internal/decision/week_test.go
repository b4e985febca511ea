package decision_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
)

// TestWeeksSayWhatInstantsDo: a course that is the same every week allows in the minutes of its week, and in no others, whatever the date and the clock.
func TestWeeksSayWhatInstantsDo(t *testing.T) {
	t.Parallel()
	known, asked := 0, 0
	for seed := range uint64(40) {
		m := specimen.Maker{Rand: rand.New(rand.NewPCG(seed, 60))}
		c := decision.Compile(m.Whole(t))
		for u := range policy.Each[*policy.User](c.Policy()) {
			for d := range policy.Each[*policy.Device](c.Policy()) {
				k := decision.CourseOf(c, u.ID, d.ID, m.IntN(len(c.RightList)))
				at := decision.MomentOf(specimen.Probes[0])
				var w decision.Week
				zone, ok := k.Weekly(at, &w)
				if !ok || k.Never() {
					continue
				}
				known++
				if zone == policy.SiteZone || zone == "" {
					zone = decision.SiteZone(c.Policy(), d.Site)
				}
				clock, err := policy.LoadZone(zone)
				if err != nil {
					t.Fatal(err)
				}
				until := min(k.Steady(at), at+decision.AnswerHorizon)
				for range 20 {
					when := at + decision.Moment(m.Int64N(int64(until-at)+1))
					local := when.Time().In(clock)
					minute := int(local.Weekday())*24*60 + local.Hour()*60 + local.Minute()
					if when >= until {
						continue
					}
					if asked++; k.Allowed(when) != (w[minute/64]>>(minute%64)&1 != 0) {
						t.Fatalf("seed %d: %s on %s at %s: allowed is %t, the week says otherwise", seed, u.ID, d.ID, local.Format(time.RFC3339), k.Allowed(when))
					}
				}
			}
		}
	}
	if known < 100 || asked < 1000 {
		t.Errorf("only %d courses were the same every week, asked at %d instants", known, asked)
	}
}
