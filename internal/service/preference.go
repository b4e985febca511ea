package service

import (
	"context"
	"encoding/json"
	"slices"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// What can be preferred.
var (
	languages = []string{"", "en", "fr"}
	themes    = []string{"", "light", "dark"}
	landings  = []string{"", "today", "check", "devices", "people", "grants", "times", "matrix"}
)

// Preferences are how the caller has the console. What cannot be read, as another version kept it, is as if nothing were kept.
func (s *Service) Preferences(ctx context.Context, c Caller) (out wire.Preferences, err error) {
	kept, err := s.borders.Preferences.PreferenceOf(ctx, string(c.User))
	if err != nil || kept.Value == "" {
		return out, err
	}
	if json.Unmarshal([]byte(kept.Value), &out) != nil || preferable(out) != nil {
		return wire.Preferences{}, nil
	}
	return out, nil
}

// SetPreferences keeps how the caller has the console from now on.
func (s *Service) SetPreferences(ctx context.Context, c Caller, p wire.Preferences) error {
	if err := preferable(p); err != nil {
		return err
	}
	value, err := json.Marshal(p)
	if err != nil {
		return err
	}
	return s.noRoom(s.borders.Preferences.KeepPreference(ctx, store.Preference{UserID: string(c.User), Value: string(value)}))
}

func preferable(p wire.Preferences) error {
	for _, x := range []struct {
		field, value string
		of           []string
	}{{"language", p.Language, languages}, {"theme", p.Theme, themes}, {"landing", p.Landing, landings}} {
		if !slices.Contains(x.of, x.value) {
			return Wrong(x.field, "%q is not known: choose one of %s", policy.Clip(x.value), policy.Names(x.of[1:]))
		}
	}
	if p.Zone != "" {
		if _, err := policy.LoadZone(policy.Clip(p.Zone)); err != nil {
			return Wrong("zone", "%v", err)
		}
	}
	return nil
}
