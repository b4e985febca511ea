package service

import (
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// EndsSoon is how long before the end of a temporary right it is told.
const EndsSoon = 7 * 24 * time.Hour

// aheadEvery is how often one looks for what ends, and for what may not be meant so.
const aheadEvery = 10 * time.Minute

// viaClock is by what an entry came that nobody asked for.
const viaClock = "clock"

// ahead is what was told of what is to come. It belongs to the one who keeps the hooks.
type ahead struct {
	next   time.Time                  // when one looks again
	told   time.Time                  // ends up to here were told; zero: it is not known yet
	counts map[survey.FindingKind]int // of findings, as they were told or are fewer by now; nil: it is not known yet
}

// Endings lists what ends after an instant and up to another, the next first: memberships, accounts, and grants that may be seen.
func Endings(p *policy.Policy, sees func(policy.Record) bool, after, until time.Time) []wire.Ending {
	out := []wire.Ending{}
	soon := func(t time.Time) bool { return t.After(after) && !t.After(until) }
	named := func(r policy.Record) *wire.Named { return &wire.Named{ID: r.Key(), Name: r.Title()} }
	for g := range policy.Each[*policy.UserGroup](p) {
		for _, m := range g.Members {
			if !soon(m.Until) {
				continue
			}
			if u, ok := policy.Find[*policy.User](p, string(m.User)); ok {
				out = append(out, wire.Ending{Kind: "membership", At: m.Until, User: named(u), Group: named(g)})
			}
		}
	}
	for u := range policy.Each[*policy.User](p) {
		if soon(u.Valid.Until) {
			out = append(out, wire.Ending{Kind: "account", At: u.Valid.Until, User: named(u)})
		}
	}
	for g := range policy.Each[*policy.Grant](p) {
		if soon(g.Valid.Until) && sees(g) {
			out = append(out, wire.Ending{Kind: "grant", At: g.Valid.Until, Grant: named(g)})
		}
	}
	slices.SortStableFunc(out, func(a, b wire.Ending) int { return a.At.Compare(b.At) })
	return out
}

// tellAhead puts what ends soon, and what was found of late, on record: while a hook asks for it, now and then.
func (s *Service) tellAhead(ctx context.Context, list []store.Hook) error {
	now := s.borders.Clock()
	if now.Before(s.hooking.ahead.next) {
		return nil
	}
	asks := func(kind audit.Kind) bool {
		return slices.ContainsFunc(list, func(h store.Hook) bool { return !h.Paused && slices.Contains(strings.Fields(h.Kinds), string(kind)) })
	}
	looked := false
	if asks(audit.Ending) {
		looked = true
		if err := s.tellEndings(ctx, now); err != nil {
			return err
		}
	}
	if asks(audit.Finding) && s.FindingsKnown() {
		looked = true
		if err := s.tellFindings(ctx); err != nil {
			return err
		}
	}
	if looked {
		s.hooking.ahead.next = now.Add(aheadEvery)
	}
	return nil
}

// tellEndings tells each end once, when it comes near.
func (s *Service) tellEndings(ctx context.Context, now time.Time) error {
	a := &s.hooking.ahead
	if a.told.IsZero() {
		a.told = now
		last, ok, err := s.borders.Record.LastOf(ctx, audit.Ending)
		if err != nil {
			return err
		}
		var more struct{ Until time.Time }
		if ok && json.Unmarshal(last.More, &more) == nil && more.Until.After(now) {
			a.told = more.Until
		}
	}
	until := now.Add(EndsSoon)
	for _, e := range Endings(s.State().Policy, func(policy.Record) bool { return true }, a.told, until) {
		more := details{"what": e.Kind, "until": e.At}
		user := ""
		for name, of := range map[string]*wire.Named{"group": e.Group, "grant": e.Grant} {
			if of != nil {
				more[name], more["name"] = of.ID, of.Name
			}
		}
		if e.User != nil {
			user = e.User.ID
		}
		s.note(Caller{Via: viaClock}, audit.Ending, audit.Done, user, more)
	}
	a.told = until
	return nil
}

// tellFindings tells of which findings there are more than were told.
func (s *Service) tellFindings(ctx context.Context) error {
	_, counts, _, err := s.Findings(ctx)
	if err != nil {
		return err
	}
	a := &s.hooking.ahead
	if a.counts == nil {
		a.counts = map[survey.FindingKind]int{}
		last, ok, err := s.borders.Record.LastOf(ctx, audit.Finding)
		if err != nil {
			return err
		}
		var more struct{ Counts map[survey.FindingKind]int }
		if ok && json.Unmarshal(last.More, &more) == nil {
			a.counts = more.Counts
		}
	}
	found := map[survey.FindingKind]int{}
	now := map[survey.FindingKind]int{}
	for kind, n := range counts {
		if n > a.counts[kind] {
			found[kind] = n - a.counts[kind]
		}
		now[kind] = n
	}
	a.counts = now
	if len(found) > 0 {
		s.note(Caller{Via: viaClock}, audit.Finding, audit.Done, "", details{"found": found, "counts": now})
	}
	return nil
}
