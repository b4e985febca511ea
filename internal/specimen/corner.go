package specimen

import (
	"testing"
	"time"

	"sentier/internal/decision"
	"sentier/internal/document"
)

// Compile reads a policy without its first line, and compiles it.
func Compile(t testing.TB, text string) *decision.Compiled {
	t.Helper()
	p, err := document.ReadPolicy([]byte("format: sentier-policy/1\n" + text))
	if err != nil {
		t.Fatal(err)
	}
	return decision.Compile(p)
}

// Instant reads an instant.
func Instant(t testing.TB, text string) time.Time {
	t.Helper()
	at, err := time.Parse(time.RFC3339, text)
	if err != nil {
		t.Fatal(err)
	}
	return at
}

// Corner is a policy in which most rules of the semantics meet.
const Corner = `
rights:
  - {id: history, implies: [view]}
  - {id: setpoint, implies: [control], kinds: [pump]}
kinds: [{id: pump}, {id: gate}]
sites: [{id: top, zone: Europe/Lisbon}, {id: low, parent: top}]
devices:
  - {id: pump-1, kind: pump, site: low, points: [{id: a}, {id: b}]}
  - {id: gate-1, kind: gate, site: top, tags: [old, wet]}
  - {id: locked, kind: pump, site: low, lockout: {from: 2026-11-20T00:00:00Z, until: 2026-11-25T00:00:00Z}}
  - {id: gone, kind: pump, site: low, state: retired}
  - {id: loose, kind: gate}
device_groups:
  - {id: outer}
  - {id: inner, parent: outer, devices: [pump-1]}
  - {id: old-wet, match: {tags: [old, wet], sites: [top]}}
  - {id: nothing, match: {}}
users: [{id: ana}, {id: ben}, {id: cho}, {id: dee, valid: {until: 2026-11-24T12:00:00Z}}, {id: eli, status: suspended}, {id: fay}, {id: gus}, {id: hal}, {id: ivy}, {id: jon}]
user_groups:
  - {id: crew, members: [ana, {user: ben, from: 2026-11-25T00:00:00Z, until: 2026-11-26T00:00:00Z}, dee, eli]}
  - {id: all, includes: [crew, off]}
  - {id: off, enabled: false, members: [cho]}
  - {id: limited, members: [gus]}
calendars: [{id: c}]
schedules: [{id: day, windows: [{from: '08:00', to: '16:00'}]}, {id: ever, zone: UTC, windows: [{from: '00:00', to: '24:00'}]}]
grants:
  - {id: setpoints, to: {groups: [all]}, lines: [{rights: [setpoint], on: {device_groups: [outer]}, when: [day]}, {rights: [control], on: {sites: [top]}}]}
  - {id: here-only, to: {users: [fay]}, lines: [{rights: [view], on: {sites: [top]}, depth: here}, {rights: [view], on: {device_groups: [outer]}, depth: here}]}
  - {id: point, to: {users: [fay]}, lines: [{rights: [control], on: {points: [pump-1/a]}}]}
  - {id: deny-view, effect: deny, to: {users: [ana]}, lines: [{rights: [view], on: {points: [pump-1/b]}}]}
  - {id: deny-control, effect: deny, to: {groups: [all]}, lines: [{rights: [control], on: {device_groups: [old-wet]}, if: {attended: true}}]}
  - {id: l1, to: {users: [gus]}, lines: [{rights: [view], on: {everything: true}, limits: {minutes: 10, paths: [a, b]}}]}
  - {id: l2, to: {groups: [limited]}, lines: [{rights: [view], on: {devices: [gate-1]}, limits: {minutes: 30, paths: [c]}}, {rights: [view], on: {devices: [loose]}, limits: {minutes: 5}}]}
  - {id: l3, to: {users: [gus]}, lines: [{rights: [control], on: {devices: [pump-1]}}]}
  - {id: net, to: {users: [hal]}, lines: [{rights: [control], on: {sites: [top]}, if: {networks: [10.0.0.0/8], strong_sign_in: true}}]}
  - {id: old, enabled: false, to: {users: [ivy]}, lines: [{rights: [control], on: {sites: [top]}}]}
  - {id: ended, valid: {until: 2026-11-01T00:00:00Z}, to: {users: [ivy]}, lines: [{rights: [view], on: {devices: [gate-1]}, when: [ever]}]}
  - {id: two-misses, to: {users: [jon]}, lines: [{rights: [view], on: {everything: true}, if: {states: [maintenance]}}, {rights: [control], on: {everything: true}, when: [day], if: {states: [maintenance]}}]}
`
