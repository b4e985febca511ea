package service

import (
	"cmp"
	"context"
	"errors"
	"strings"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/directory"
	"sentier/internal/icalendar"
	"sentier/internal/inventory"
	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/scim"
	"sentier/internal/signon"
	"sentier/internal/source"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// The kinds of sources.
const (
	kindDirectory = "directory" // read by LDAP
	kindCalendar  = "calendar"  // read from iCalendar
	kindInventory = "inventory" // devices and sites read from a list
	kindSCIMRead  = "scim_read" // people and groups read from another service by SCIM
)

// Bounds of what is read from an address, or brought.
const (
	feedTime = 60 * time.Second
	mostFeed = 16 << 20 // bytes
)

// sourceKind is what a kind of source is, and how it is read.
type sourceKind struct {
	name  string
	part  string                                                                                     // as its own settings are called; empty: as the kind
	has   func(*wire.NewSource) bool                                                                 // whether its own settings are there; nil: it has none
	check func(*wire.NewSource) (field string, problem *policy.Said)                                 // what is wrong with them
	read  func(ctx context.Context, s *Service, in *wire.NewSource, id string) (*source.Held, error) // nil: it is not read, and brings by itself
}

var sourceKinds = []*sourceKind{
	{
		name:  kindDirectory,
		has:   func(in *wire.NewSource) bool { return in.Directory != nil },
		check: func(in *wire.NewSource) (string, *policy.Said) { return directory.Settings(*in.Directory).Check() },
		read: func(ctx context.Context, s *Service, in *wire.NewSource, _ string) (*source.Held, error) {
			return s.borders.Outside.Read(ctx, *in.Directory)
		},
	},
	{name: kindSCIM},
	{
		name:  kindSignOn,
		has:   func(in *wire.NewSource) bool { return in.SignOn != nil },
		check: func(in *wire.NewSource) (string, *policy.Said) { return signon.Check(in.SignOn) },
	},
	{
		name: kindCalendar,
		has:  func(in *wire.NewSource) bool { return in.Calendar != nil },
		check: func(in *wire.NewSource) (string, *policy.Said) {
			if in.Calendar.Zone != "" {
				if _, err := policy.LoadZone(in.Calendar.Zone); err != nil {
					said := policy.SaidBy(err)
					return "zone", &said
				}
			}
			if in.Calendar.Timed != "" && in.Calendar.Timed != timedDays && in.Calendar.Timed != timedLeftOut {
				return "timed", policy.Complain("%q is none of days and left_out", policy.Clip(in.Calendar.Timed))
			}
			return checkFeed(&in.Calendar.Feed)
		},
		read: readCalendar,
	},
	{
		name: kindInventory,
		has:  func(in *wire.NewSource) bool { return in.Inventory != nil },
		check: func(in *wire.NewSource) (string, *policy.Said) {
			if field, problem := inventory.Check(in.Inventory); problem != nil {
				return field, problem
			}
			return checkFeed(&in.Inventory.Feed)
		},
		read: func(ctx context.Context, s *Service, in *wire.NewSource, id string) (*source.Held, error) {
			text, err := s.content(ctx, in.Inventory.Feed, map[string]string{inventory.CSV: "text/csv", inventory.JSONL: "application/x-ndjson"}[in.Inventory.Format], id)
			if err != nil {
				return nil, err
			}
			return inventory.Read(text, in.Inventory)
		},
	},
	{
		name: kindSCIMRead,
		part: "scim",
		has:  func(in *wire.NewSource) bool { return in.SCIM != nil },
		check: func(in *wire.NewSource) (string, *policy.Said) {
			if in.SCIM.URL == "" {
				return "url", policy.Complain("is missing: say where the other service is, up to /scim/v2")
			}
			return checkFeed(in.SCIM)
		},
		read: readSCIM,
	},
}

// readSCIM reads the people and groups of another service.
func readSCIM(ctx context.Context, s *Service, in *wire.NewSource, _ string) (*source.Held, error) {
	token, err := s.borders.Secret(in.SCIM.Secret)
	if err != nil {
		return nil, err
	}
	return scim.Fetch(ctx, in.SCIM, token)
}

// What events with a time of day come to.
const (
	timedDays    = "days"
	timedLeftOut = "left_out"
)

// settings is how the kind's own settings are called.
func (k *sourceKind) settings() string { return cmp.Or(k.part, k.name) }

// kindOf is a kind by its name; nil: there is none.
func kindOf(name string) *sourceKind {
	for _, k := range sourceKinds {
		if k.name == name {
			return k
		}
	}
	return nil
}

func kindNames() policy.Names {
	var out policy.Names
	for _, k := range sourceKinds {
		out = append(out, k.name)
	}
	return out
}

// checkFeed finds what is wrong with where something is read by HTTP.
func checkFeed(f *source.Feed) (field string, problem *policy.Said) {
	if f.URL == "" && (f.Authority != "" || f.Secret != "") {
		return "url", policy.Complain("is missing: with an authority or a secret goes an address")
	}
	if f.URL != "" {
		if problem := outbound.Check(f.URL); problem != nil {
			return "url", problem
		}
	}
	if f.Secret != "" {
		if problem := outbound.CheckSecret(f.Secret); problem != nil {
			return "secret", problem
		}
	}
	return "authority", outbound.CheckAuthority(f.Authority)
}

// outside reads sources with the secrets of this machine.
type outside struct{ directory.Reader }

// Fetch reads what an address gives.
func (o outside) Fetch(ctx context.Context, from source.Feed, accept string) ([]byte, error) {
	token, err := o.Secret(from.Secret)
	if err != nil {
		return nil, err
	}
	client := outbound.Client(from.Authority, feedTime, mostFeed)
	defer outbound.CloseIdle(client)
	return outbound.Get(ctx, client, from.URL, token, accept)
}

// content is what a feed gives, or what was brought to its source last.
func (s *Service) content(ctx context.Context, from source.Feed, accept, id string) ([]byte, error) {
	if from.URL != "" {
		return s.borders.Outside.Fetch(ctx, from, accept)
	}
	kept, err := s.borders.Sources.Content(ctx, id)
	if errors.Is(err, store.ErrNotFound) {
		return nil, &UnreadError{Why: policy.Say("it has no address, and nothing was brought to it yet")}
	}
	return kept.Body, err
}

// readSource reads a source, all of it.
func (s *Service) readSource(ctx context.Context, k *keptSource) (*source.Held, error) {
	kind := kindOf(k.Kind)
	if kind == nil || kind.read == nil {
		return nil, &DraftError{policy.Say("the source %q is not read: it brings people and groups by itself", k.Name)}
	}
	held, err := kind.read(ctx, s, &k.set, k.ID)
	if err != nil {
		return nil, err
	}
	s.sourcing.read.Store(k.ID, &lately{held, s.borders.Clock(), k.Version})
	return held, nil
}

// calendarAhead is for how many days a calendar is read ahead, at least.
const calendarAhead = 400

// readCalendar reads the events of the month before, of this one, and of the next 400 days, up to the end of a month: so what recurs for ever changes something once
// a month, and not each day.
func readCalendar(ctx context.Context, s *Service, in *wire.NewSource, id string) (*source.Held, error) {
	zone, err := policy.LoadZone(cmp.Or(in.Calendar.Zone, s.State().Policy.Settings().Zone, "UTC"))
	if err != nil {
		return nil, err
	}
	text, err := s.content(ctx, in.Calendar.Feed, "text/calendar", id)
	if err != nil {
		return nil, err
	}
	now := s.borders.Clock().In(zone)
	first := policy.Date{Year: now.Year(), Month: now.Month(), Day: 1}.Add(-1)
	last := policy.DateOf(now).Add(calendarAhead)
	held, err := icalendar.Read(text, zone, policy.Date{Year: first.Year, Month: first.Month, Day: 1}, policy.Date{Year: last.Year, Month: last.Month + 1, Day: 1}.Add(-1))
	if err == nil && in.Calendar.Timed == timedLeftOut {
		held.LeaveTimedOut()
	}
	return held, err
}

// BringToSource keeps what a source is read from that has no address. Nothing counts yet.
func (s *Service) BringToSource(ctx context.Context, c Caller, id string, body []byte) (wire.BroughtContent, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.BroughtContent{}, err
	}
	if len(strings.TrimSpace(string(body))) == 0 {
		return wire.BroughtContent{}, Wrong("", "the body is empty: send what is to be read")
	}
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return wire.BroughtContent{}, err
	}
	if k.feed() == nil {
		return wire.BroughtContent{}, &DraftError{policy.Say("nothing is brought to the source %q: it is no calendar and no inventory", k.Name)}
	}
	if k.feed().URL != "" {
		return wire.BroughtContent{}, &DraftError{policy.Say("the source %q is read from %s: take the address away first", k.Name, k.feed().URL)}
	}
	lock, _ := s.sourcing.reading.LoadOrStore(k.ID, &sync.Mutex{})
	lock.(*sync.Mutex).Lock() // whoever reads it now reads what was brought before
	defer lock.(*sync.Mutex).Unlock()
	if err := s.kept(s.borders.Sources.KeepContent(ctx, store.SourceContent{Source: id, At: s.borders.Clock().UTC(), By: string(c.User), Body: body})); err != nil {
		return wire.BroughtContent{}, err
	}
	s.sourcing.read.Delete(id)
	s.note(c, audit.Source, audit.Done, "", details{"source": k.ID, "name": k.Name, "brought": len(body)})
	return wire.BroughtContent{Bytes: len(body)}, nil
}

// feed is from where the source is read; nil: it is not read so.
func (k *keptSource) feed() *source.Feed {
	if k.set.Calendar != nil {
		return &k.set.Calendar.Feed
	}
	if k.set.Inventory != nil {
		return &k.set.Inventory.Feed
	}
	return nil
}
