package demo_test

import (
	"bytes"
	"math/rand/v2"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/demo"
	"sentier/internal/document"
	"sentier/internal/policy"
)

func TestAtTheWrittenInstantTheDemonstrationIsTheDocument(t *testing.T) {
	p, err := demo.At(demo.Written)
	if err != nil {
		t.Fatal(err)
	}
	data, err := document.WritePolicy(p, document.YAML)
	if err != nil || !bytes.Equal(data, demo.Document()) {
		t.Errorf("%d bytes (%v) are not those of the document", len(data), err)
	}
}

// TestTheDemonstrationIsAliveWheneverItStarts holds what the stories tell of their own week at many starts.
func TestTheDemonstrationIsAliveWheneverItStarts(t *testing.T) {
	r := rand.New(rand.NewPCG(9, 1))
	starts := []time.Time{
		time.Date(2027, 1, 3, 3, 30, 0, 0, time.UTC), time.Date(2028, 2, 29, 12, 0, 0, 0, time.UTC), time.Date(2031, 7, 15, 21, 40, 0, 0, time.UTC),
		time.Date(2026, 12, 31, 23, 59, 0, 0, time.UTC), time.Date(2027, 3, 28, 1, 30, 0, 0, time.UTC),
	}
	for range 40 {
		starts = append(starts, demo.Written.Add(time.Duration(r.IntN(24*365*8))*time.Hour))
	}
	for _, at := range starts {
		p, err := demo.At(at)
		if err != nil {
			t.Fatalf("at %v: %v", at, err)
		}
		local := at.In(demo.Home())
		g, _ := policy.Find[*policy.UserGroup](p, "winter-contractors")
		for _, m := range g.Members {
			until := m.Until.In(demo.Home())
			if m.User == "noor.haddad" && (until.Weekday() != time.Friday || until.Hour() != 17 || until.Sub(at) < -24*time.Hour || until.Sub(at) > 7*24*time.Hour) {
				t.Errorf("at %v: Noor's contract ends %v, not this Friday", local, until)
			}
		}
		regatta, _ := policy.Find[*policy.Calendar](p, "regatta")
		first := time.Unix(int64(regatta.Days[0].From.Days())*86400, 0).UTC()
		if ahead := first.Sub(at).Hours() / 24; first.Weekday() != time.Saturday || ahead < 6 || ahead > 14 {
			t.Errorf("at %v: the regatta begins %v", local, first)
		}
		ask := func(user policy.UserID, right policy.RightID, device policy.DeviceID, at time.Time) decision.Answer {
			return decision.Compile(p).Explain(decision.Question{User: user, Right: right, Device: device, At: at})
		}
		if a := ask("ines.carvalho", "control", "estuary-gate-1", at); a.Reason != decision.DeviceLockedOut {
			t.Errorf("at %v: the estuary gate is not locked out: %v", local, a.Reason)
		}
		tuesday, err := document.ParseInstant(demo.Week("2026-11-24", at)+" 10:00", at, demo.Home())
		if err != nil {
			t.Fatal(err)
		}
		if a := ask("greta.holm", "control", "mill-bridge", first.Add(6*time.Hour)); !a.Allowed {
			t.Errorf("at %v: at the regatta Greta is refused: %v", local, a.Reason)
		}
		// Unless Christmas or the New Year lies in that week.
		if a := ask("tomas.field", "control", "twin-bridge-north", tuesday); !a.Allowed && tuesday.Month() != 12 && tuesday.Month() != 1 {
			t.Errorf("at %v: Tomas does not keep the bridge by accident: %v", local, a.Reason)
		}
	}
}
