package daemon

import (
	"testing"
	"time"
)

// TestAClockThatIsSetBack: ends hold by the greatest instant that was seen, going on from there, until the machine's clock has come up to it; a little is let pass.
func TestAClockThatIsSetBack(t *testing.T) {
	at := time.Date(2026, 11, 24, 10, 0, 0, 0, time.UTC)
	c := &steadyClock{base: func() time.Time { return at }}
	begun := c.Now()
	for _, step := range []struct {
		set    time.Duration // of the machine's clock, from the beginning
		says   time.Duration
		behind time.Duration
	}{
		{time.Hour, time.Hour, 0},
		{time.Hour - 30*time.Second, time.Hour - 30*time.Second, 0}, // set a little
		{-240 * 24 * time.Hour, time.Hour, 240*24*time.Hour + time.Hour},
		{-240*24*time.Hour + time.Minute, time.Hour + time.Minute, 240*24*time.Hour + time.Hour}, // it goes on
		{2 * time.Hour, 2 * time.Hour, 0},                                                        // set right
		{2*time.Hour + time.Minute, 2*time.Hour + time.Minute, 0},
	} {
		at = begun.Add(step.set)
		if got := c.Now().Sub(begun); got != step.says {
			t.Errorf("set to %v it says %v, want %v", step.set, got, step.says)
		}
		if got := c.Behind(); got != step.behind {
			t.Errorf("set to %v it is %v behind, want %v", step.set, got, step.behind)
		}
	}
}
