package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// factSettings is the fact that holds the settings of the service.
const factSettings = "service settings"

// Which decisions are kept in the record.
const (
	KeepAll     = "all"
	KeepControl = "control_and_denials"
	KeepNone    = "none"
)

// Bounds of the settings.
const (
	mostRules      = 100
	mostKeepDays   = 36_500
	defaultBehind  = 5           // minutes
	mostIdle       = 7 * 24 * 60 // minutes
	mostSession    = 31 * 24     // hours
	mostPeople     = 1_000_000
	defaultSession = 12
)

// defaultSettings are those of a service for which nobody has made others: everything is kept, for good.
var defaultSettings = wire.ServiceSettings{Decisions: KeepAll, DecisionsOf: []wire.DecisionRule{}, SessionHours: defaultSession, BehindMinutes: defaultBehind}

// settings are the settings of the service, ready to be asked. They never change.
type settings struct{ wire.ServiceSettings }

// decision tells whether a decision is to be kept.
func (s *settings) decision(st *State, d *Decided) bool {
	if d.Asked {
		return true
	}
	keep := s.Decisions
	for i := range s.DecisionsOf {
		if r := &s.DecisionsOf[i]; (r.Right == "" || r.Right == string(d.Question.Right)) && (r.Site == "" || at(st, d.Question.Device, policy.SiteID(r.Site))) {
			keep = r.Keep
			break
		}
	}
	switch keep {
	case KeepNone:
		return false
	case KeepControl:
		if d.Reason != audit.Granted {
			return true
		}
		n, ok := st.Compiled.Right(d.Question.Right)
		return !ok || st.Compiled.RightList[n].Controls
	}
	return true
}

// at tells whether a device lies at a site, or below it.
func at(st *State, device policy.DeviceID, site policy.SiteID) bool {
	d, ok := policy.Find[*policy.Device](st.Policy, string(device))
	if !ok {
		return false
	}
	for around := range st.Policy.Around(d.Site) {
		if around == site {
			return true
		}
	}
	return false
}

// loadSettings reads the settings that are kept.
func (s *Service) loadSettings(ctx context.Context) error {
	text, err := s.borders.Files.FactOf(ctx, factSettings)
	if err != nil {
		return err
	}
	out := defaultSettings
	if text != "" {
		if err := json.Unmarshal([]byte(text), &out); err != nil {
			return fmt.Errorf("read the settings of the service: %w", err)
		}
	}
	s.setSettings(out)
	return nil
}

func (s *Service) setSettings(in wire.ServiceSettings) {
	s.settings.Store(&settings{in})
	s.who.Lasts(time.Duration(in.IdleMinutes)*time.Minute, time.Duration(in.SessionHours)*time.Hour)
	s.telling.more()
}

// Settings are the settings of the service, for whoever sees the policy as a whole.
func (s *Service) Settings(c Caller) (wire.ServiceSettings, error) {
	if err := s.Permit(s.State(), c, Whole, ""); err != nil {
		return wire.ServiceSettings{}, err
	}
	return s.settings.Load().ServiceSettings, nil
}

// ChangeSettings changes settings of the service. It stays in the record.
func (s *Service) ChangeSettings(ctx context.Context, c Caller, change wire.ServiceChange) (wire.ServiceSettings, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.ServiceSettings{}, err
	}
	if now := s.settings.Load().ServiceSettings; loosens(now, changed(now, change)) {
		if err := s.alone(c, ActSettings, ""); err != nil {
			return wire.ServiceSettings{}, err
		}
	}
	return s.changeSettings(ctx, c, change)
}

func (s *Service) changeSettings(ctx context.Context, c Caller, change wire.ServiceChange) (wire.ServiceSettings, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.ServiceSettings{}, err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	before := s.settings.Load().ServiceSettings
	in := changed(before, change)
	if err := s.checkSettings(&in); err != nil {
		return in, err
	}
	text, err := json.Marshal(in)
	if err != nil {
		return in, err
	}
	if err := s.borders.Blank.SetFact(ctx, factSettings, string(text)); err != nil {
		return in, s.kept(err)
	}
	if err := s.loadSettings(ctx); err != nil {
		return in, err
	}
	s.note(c, audit.Setting, audit.Done, "", details{"before": before, "after": in})
	return in, nil
}

// changed are settings with a change made to them.
func changed(out wire.ServiceSettings, change wire.ServiceChange) wire.ServiceSettings {
	if change.DecisionsOf != nil {
		out.DecisionsOf = change.DecisionsOf
	}
	put(&out.Decisions, change.Decisions)
	put(&out.KeepDays, change.KeepDays)
	put(&out.ReasonRequired, change.ReasonRequired)
	put(&out.Approval, change.Approval)
	put(&out.IdleMinutes, change.IdleMinutes)
	put(&out.BehindMinutes, change.BehindMinutes)
	put(&out.SessionHours, change.SessionHours)
	return out
}

// put puts a value where there is one.
func put[T any](into, value *T) {
	if value != nil {
		*into = *value
	}
}

func (s *Service) checkSettings(in *wire.ServiceSettings) error {
	modes := []string{KeepAll, KeepControl, KeepNone}
	p := s.State().Policy
	if !slices.Contains(modes, in.Decisions) {
		return Wrong("decisions", "%q is not known: write all, control_and_denials or none", policy.Clip(in.Decisions))
	}
	if len(in.DecisionsOf) > mostRules {
		return Wrong("decisions_of", "has %d rules: keep it to %d", len(in.DecisionsOf), mostRules)
	}
	if in.Approval.Asks() && len(s.State().Compiled.LastingOwners(s.borders.Clock())) < 2 {
		return Wrong("approval", "asks for a second person, and there is one owner alone: give somebody else a mandate of owner first")
	}
	for _, r := range in.DecisionsOf {
		if !slices.Contains(modes, r.Keep) {
			return Wrong("decisions_of", "%q is not known: write all, control_and_denials or none", policy.Clip(r.Keep))
		}
		if r.Right == "" && r.Site == "" {
			return Wrong("decisions_of", "one names neither a right nor a site: what holds for all is decisions")
		}
		if _, ok := p.Get(policy.Rights, r.Right); !ok && r.Right != "" {
			return Wrong("decisions_of", "there is no right %q", policy.Clip(r.Right))
		}
		if _, ok := p.Get(policy.Sites, r.Site); !ok && r.Site != "" {
			return Wrong("decisions_of", "there is no site %q", policy.Clip(r.Site))
		}
	}
	for _, b := range []struct {
		field              string
		value, least, most int
	}{{"keep_days", in.KeepDays, 0, mostKeepDays}, {"idle_minutes", in.IdleMinutes, 0, mostIdle}, {"behind_minutes", in.BehindMinutes, 0, mostIdle}, {"session_hours", in.SessionHours, 1, mostSession}, {"approval.more_than", in.Approval.MoreThan, 0, mostPeople}} {
		if b.value < b.least || b.value > b.most {
			return Wrong(b.field, "%d is out of range: %d to %d", b.value, b.least, b.most)
		}
	}
	return nil
}
