package survey_test

import (
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/demo"
	"sentier/internal/policy"
	"sentier/internal/survey"
)

// TestHoursAreWhatIsDecided: at any instant, whatever is told to be allowed by the hours is decided so, and what is told with hours is decided otherwise outside them.
func TestHoursAreWhatIsDecided(t *testing.T) {
	p, err := demo.At(demo.Written)
	if err != nil {
		t.Fatal(err)
	}
	c := decision.Compile(p)
	from := demo.Written.Truncate(24 * time.Hour)
	until := from.AddDate(0, 0, 60)
	random := rand.New(rand.NewPCG(7, 7))
	told := 0
	for u := range policy.Each[*policy.User](p) {
		for _, h := range survey.Of(c).Hours(u.ID, from, until, 5) {
			if len(h.Devices) == 0 || h.Total < len(h.Devices) || len(h.Open) == 0 || len(h.Rights) == 0 {
				t.Fatalf("%s: %+v", u.ID, h)
			}
			for range 20 {
				told++
				at := from.Add(time.Duration(random.Int64N(int64(until.Sub(from)))))
				open := false
				for _, o := range h.Open {
					open = open || o.Holds(at)
				}
				d := h.Devices[random.IntN(len(h.Devices))]
				q := decision.Question{User: u.ID, Right: h.Rights[random.IntN(len(h.Rights))], Device: d.ID, Point: d.Point, At: at}
				if got := c.Decide(&q); got.Allowed != open {
					t.Fatalf("%+v: %v, and the hours say %v: %v", q, got, open, h.Open)
				}
			}
		}
	}
	if told < 500 {
		t.Errorf("only %d were told", told)
	}
}
