package service

import (
	"context"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/survey"
	"sentier/internal/wire"
)

// findings are what was found last, for a while: they change with the policy and, slowly, with time.
type findings struct {
	mu       sync.Mutex
	revision uint64
	upkeep   *survey.Upkeep // nil: nobody has asked yet
	list     []survey.Finding
	counts   map[survey.FindingKind]int
}

// Bounds of findings.
const (
	findingsHold = 10 * time.Minute
	mostFinding  = 1000 // characters of a key
	unusedDays   = 90
	mostAsked    = 2000 // people of whom the record is asked
)

// Bounds of policies, in records: from manyRecords on, the findings are not looked for on the way to the first page, but told there once somebody
// has asked for them, which takes seconds; above mostRecords they would take longer than anybody waits.
const (
	manyRecords = 20_000
	mostRecords = 500_000
)

// FindingsKnown tells whether the findings are known, or known as soon as somebody asks.
func (s *Service) FindingsKnown() bool {
	if s.State().Policy.Len() < manyRecords {
		return true
	}
	if !s.findings.mu.TryLock() {
		return false // somebody is looking for them
	}
	defer s.findings.mu.Unlock()
	return s.findings.fresh(s.borders.Clock())
}

// fresh tells whether what was found last can be told, or gone on from.
func (f *findings) fresh(now time.Time) bool {
	return f.upkeep != nil && !now.Before(f.upkeep.At) && now.Before(f.upkeep.At.Add(findingsHold))
}

// Findings are what may not be meant as it is now, whoever asks.
func (s *Service) Findings(ctx context.Context) (list []survey.Finding, counts map[survey.FindingKind]int, at time.Time, err error) {
	s.findings.mu.Lock()
	defer s.findings.mu.Unlock()
	st, now := s.State(), s.borders.Clock()
	if n := st.Policy.Len(); n > mostRecords {
		return nil, nil, now, Wrong("policy", "has %d records: findings are looked for in up to %d", n, mostRecords)
	}
	f := &s.findings
	upkeep := f.upkeep
	switch {
	case f.fresh(now) && f.revision == st.Revision.Number:
		return f.list, f.counts, upkeep.At, nil
	case f.fresh(now):
		upkeep = upkeep.Next(st.Compiled)
	default:
		upkeep = survey.Of(st.Compiled).Upkeep(now)
	}
	unused, err := s.unused(ctx, st, now)
	if err != nil {
		return nil, nil, now, err
	}
	counts = maps.Clone(upkeep.Counts)
	counts[survey.Unused] = len(unused)
	f.revision, f.upkeep, f.list, f.counts = st.Revision.Number, upkeep, append(slices.Clip(upkeep.Found), unused...), counts
	return f.list, f.counts, upkeep.At, nil
}

// unused finds people who could do something and have been allowed nothing for a long time: by the record, where that reaches back so far.
func (s *Service) unused(ctx context.Context, st *State, now time.Time) ([]survey.Finding, error) {
	since := now.AddDate(0, 0, -unusedDays)
	settings := s.settings.Load()
	begun, err := s.borders.History.Revisions(ctx, store.Which{UpTo: 1}, 1)
	if err != nil || len(begun) == 0 || begun[0].At.After(since) || settings.Decisions != KeepAll || settings.KeepDays > 0 && settings.KeepDays < unusedDays ||
		st.Policy.Table(policy.Users).Len() > mostAsked {
		return nil, err
	}
	var out []survey.Finding
	for u := range policy.Each[*policy.User](st.Policy) {
		if _, may := st.Compiled.MaySignIn(u.ID, now); !may || len(st.Compiled.Groups(u.ID, now)) == 0 {
			continue
		}
		page, err := s.borders.Record.Search(ctx, audit.Filter{User: string(u.ID), Kinds: []audit.Kind{audit.Decision}, Outcomes: []string{audit.Granted}, Since: since}, 1)
		if err != nil {
			return nil, err
		}
		if len(page.Entries) == 0 && page.Next == 0 {
			out = append(out, survey.Finding{Kind: survey.Unused, Of: []survey.FindingOf{{Type: policy.Users, ID: string(u.ID)}}, Count: unusedDays})
		}
	}
	return out, nil
}

// Dismissed are the findings that somebody has left as they are, by their keys.
func (s *Service) Dismissed(ctx context.Context) (map[string]store.Dismissal, error) {
	list, err := s.borders.Upkeep.Dismissals(ctx, s.borders.Clock())
	out := map[string]store.Dismissal{}
	for _, d := range list {
		out[d.Finding] = d
	}
	return out, err
}

// Dismiss leaves a finding as it is, for a reason, until it comes back. It stays in the record.
func (s *Service) Dismiss(ctx context.Context, c Caller, in wire.Dismiss) error {
	now := s.borders.Clock()
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	reason, err := reasonOf(in.Reason)
	if err != nil {
		return err
	}
	if in.Key == "" || len([]rune(in.Key)) > mostFinding {
		return Wrong("key", "is that of no finding")
	}
	list, _, _, err := s.Findings(ctx)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(list, func(f survey.Finding) bool { return f.Key() == in.Key }) {
		return Wrong("key", "is that of no finding")
	}
	until, err := s.hourOf("until", in.Until, now)
	if err != nil {
		return err
	}
	if until == nil {
		return Wrong("until", "is missing: say when it comes back")
	}
	if err := s.kept(s.borders.Upkeep.Dismiss(ctx, store.Dismissal{Finding: in.Key, Reason: reason, Until: *until, By: string(c.User), At: now.UTC()})); err != nil {
		return err
	}
	s.note(c, audit.Setting, audit.Done, "", details{"what": "finding dismissed: " + strings.TrimSpace(in.Key), "reason": reason, "until": until.UTC()})
	return nil
}

// Reopen has a finding that was dismissed told again.
func (s *Service) Reopen(ctx context.Context, c Caller, key string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	was, err := s.borders.Upkeep.Reopen(ctx, key)
	if err != nil {
		return s.kept(err)
	}
	if !was {
		return ErrNotFound
	}
	s.note(c, audit.Setting, audit.Done, "", details{"what": "finding told again: " + policy.Clip(key)})
	return nil
}
