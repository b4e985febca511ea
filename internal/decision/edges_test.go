package decision_test

import (
	"net/netip"
	"slices"
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/specimen"
	"sentier/internal/survey"
)

func TestNetworksHoldAddressesOfTheirFamily(t *testing.T) {
	c := specimen.Compile(t, `
devices: [{id: gate}]
users: [{id: ana}]
grants:
  - {id: all, to: {users: [ana]}, lines: [{rights: [view], on: {everything: true}}]}
  - {id: mapped, effect: deny, to: {users: [ana]}, lines: [{rights: [view], on: {everything: true}, if: {networks: ['::ffff:10.20.0.0/112', '::/0']}}]}
`)
	for address, allowed := range map[string]bool{
		"10.20.3.4": false, "::ffff:10.20.3.4": false, "10.21.0.1": true, "::ffff:10.21.0.1": true, "2001:db8::1": false,
	} {
		q := decision.Question{User: "ana", Right: "view", Device: "gate", At: specimen.Instant(t, "2026-11-24T10:00:00Z"), Context: decision.Context{IP: netip.MustParseAddr(address)}}
		if got := c.Decide(&q).Allowed; got != allowed {
			t.Errorf("from %s: allowed %v, want %v", address, got, allowed)
		}
	}
	if g, _ := policy.Find[*policy.Grant](c.Policy(), "mapped"); g.Lines[0].If.Networks[0].String() != "10.20.0.0/16" {
		t.Errorf("the mapped prefix is kept as %v", g.Lines[0].If.Networks)
	}
}

func TestTheNearestMissGivesTheRight(t *testing.T) {
	c := specimen.Compile(t, `
devices: [{id: gate}]
users: [{id: ana}, {id: ben}]
schedules: [{id: never, dates: {to: 2020-01-01}}]
grants:
  - {id: look, to: {everyone: true}, lines: [{rights: [view], on: {everything: true}}]}
  - {id: work, enabled: false, to: {users: [ana]}, lines: [{rights: [control], on: {everything: true}, when: [never], if: {attended: true}}]}
`)
	for user, want := range map[policy.UserID]string{"ana": "outside_schedule", "ben": "right_not_granted"} {
		q := decision.Question{User: user, Right: "control", Device: "gate", At: specimen.Instant(t, "2026-11-24T10:00:00Z")}
		if a := c.Explain(q); a.Reason.String() != want || len(a.Missing) != 1 {
			t.Errorf("%s: %s with %d near misses, want %s and one", user, a.Reason, len(a.Missing), want)
		}
	}
}

func TestAnEndAtTheBeginningOfTheCalendarIsAnEnd(t *testing.T) {
	for _, text := range []string{"0001-01-01T00:00:00Z", "0001-01-01T00:00:00+01:00", "0001-01-01T00:00:00.000000001Z"} {
		c := specimen.Compile(t, `
devices: [{id: gate}]
users: [{id: ana, valid: {until: '`+text+`'}}]
grants: [{id: all, to: {everyone: true}, lines: [{rights: [view], on: {everything: true}}]}]
`)
		q := decision.Question{User: "ana", Right: "view", Device: "gate", At: specimen.Instant(t, "2026-11-24T10:00:00Z")}
		if got := c.Decide(&q); got.Reason != decision.UserExpired {
			t.Errorf("until %s: %s, want user_expired", text, got.Reason)
		}
	}
}

func TestAPointThatIsAlwaysGrantedStandsBesideItsDevice(t *testing.T) {
	c := specimen.Compile(t, `
devices: [{id: gate, points: [{id: a}]}]
users: [{id: ana}]
schedules: [{id: later, windows: [{from: '20:00', to: '21:00'}]}]
grants:
  - {id: device, to: {users: [ana]}, lines: [{rights: [view], on: {devices: [gate]}, when: [later]}]}
  - {id: point, to: {users: [ana]}, lines: [{rights: [view], on: {points: [gate/a]}}]}
`)
	found, _ := survey.Of(c).DevicesOf("ana", survey.Circumstances{At: specimen.Instant(t, "2026-11-24T10:00:00Z"), Degrees: survey.AllDegrees})
	var keys []string
	for _, r := range found.Page("", 10) {
		keys = append(keys, r.Key())
	}
	if !slices.Equal(keys, []string{"gate", "gate/a"}) {
		t.Errorf("at any time %v is reached", keys)
	}
}

// TestAdviceWithAnEnd: nothing lasts beyond it, no later membership is lost, and what takes two steps is told as two.
func TestAdviceWithAnEnd(t *testing.T) {
	c := specimen.Compile(t, `
devices: [{id: gate, state: retired}, {id: weir}]
users: [{id: ana, status: suspended}, {id: ben}]
user_groups: [{id: crew, members: [{user: ben, from: 2027-03-01T00:00:00Z}]}]
grants:
  - {id: crew-all, to: {groups: [crew]}, lines: [{rights: [view], on: {everything: true}}]}
  - {id: own, to: {users: [ben]}, lines: [{rights: [control], on: {devices: [gate]}}]}
`)
	at, until := specimen.Instant(t, "2026-11-24T10:00:00Z"), specimen.Instant(t, "2026-12-01T10:00:00Z")
	kinds := map[string]bool{}
	for _, user := range []policy.UserID{"ana", "ben"} {
		for _, device := range []policy.DeviceID{"gate", "weir"} {
			q := decision.Question{User: user, Right: "view", Device: device, At: at}
			before := c.Decide(&q)
			for _, a := range survey.Of(c).Advise(q, until, 9) {
				next, _, err := c.Policy().Apply(a.Changes)
				if err != nil {
					t.Fatal(err)
				}
				after, end, late := decision.Compile(next), q, q
				end.At, late.At = until, specimen.Instant(t, "2027-03-02T00:00:00Z")
				if after.Decide(&q).Allowed == before.Allowed || after.Decide(&end).Allowed {
					t.Errorf("%s on %s: advice %v %s is without effect, or lasts beyond its end", user, device, a.First, a.Kind)
				}
				if c.Decide(&late).Allowed && !after.Decide(&late).Allowed {
					t.Errorf("%s on %s: advice %v %s takes a later membership", user, device, a.First, a.Kind)
				}
				for _, first := range a.First {
					kinds[string(first)+"+"+string(a.Kind)] = true
				}
			}
			if got := survey.Of(c).Advise(q, at.Add(-time.Hour), 9); len(got) > 0 {
				t.Errorf("%s on %s: %d pieces of advice end before they begin", user, device, len(got))
			}
		}
	}
	if !kinds["user+join"] || !kinds["user+grant"] {
		t.Errorf("to reinstate and to add is not advised together: %v", kinds)
	}
}
