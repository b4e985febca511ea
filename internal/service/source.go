package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/directory"
	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/source"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Bounds of sources.
const (
	mostSources    = 50
	mostEvery      = 7 * 24 * 60     // minutes
	mostSourceSize = 1 << 20         // bytes of the settings of one
	heldFor        = 2 * time.Minute // that what was read is good to look at
	runsTold       = 20
	problemsTold   = 200
	foundMost      = 20
	membersTold    = 20
)

// Outside is how sources are read, and how those who come from one prove who they are.
type Outside interface {
	Read(ctx context.Context, from source.Directory) (*source.Held, error)
	SignIn(ctx context.Context, at source.Directory, place, password string) error
	Fetch(ctx context.Context, from source.Feed, accept string) ([]byte, error)
}

// sourcing is what goes on with the sources.
type sourcing struct {
	changing sync.Mutex // held by whoever changes one of them, or what is known of it
	reading  sync.Map   // *sync.Mutex by id: held by the one reading of it
	read     sync.Map   // *lately by id
	running  sync.WaitGroup
}

// lately is what a source held when it was read last.
type lately struct {
	held    *source.Held
	at      time.Time
	version uint64
}

// loadSources reads which sources there are, and what they have brought.
func (s *Service) loadSources(ctx context.Context) error {
	of, err := s.readSources(ctx)
	if err != nil {
		return err
	}
	things, members, err := s.borders.Sources.Origins(ctx)
	if err != nil {
		return fmt.Errorf("read what the sources have brought: %w", err)
	}
	var origins []source.Origin
	for _, o := range things {
		t, ok := policy.TypeNamed(o.Type)
		if !ok {
			return fmt.Errorf("read what the sources have brought: %q is no type of record", policy.Clip(o.Type))
		}
		origins = append(origins, source.Origin{Source: o.Source, Type: t, Outside: o.Outside, Record: o.Record, Place: o.Place, Gone: o.Gone, Suspended: o.Suspended, Made: o.Made, Told: string(o.Told)})
	}
	var joined []source.Member
	for _, m := range members {
		joined = append(joined, source.Member{Source: m.Source, Group: m.GroupID, User: m.UserID})
	}
	s.known.Store(source.NewKnown(of, origins, joined))
	return nil
}

// sourcesChanged lets everybody know which sources there are now. What they have brought stays, but of those that are gone. The caller holds
// s.sourcing.changing.
func (s *Service) sourcesChanged(ctx context.Context) error {
	of, err := s.readSources(ctx)
	if err != nil {
		return err
	}
	s.writing.Lock() // a change that is being saved brings more
	defer s.writing.Unlock()
	s.known.Store(s.known.Load().Among(of))
	return nil
}

// readSources reads which sources there are, and at which people may sign in.
func (s *Service) readSources(ctx context.Context) (of []source.Of, err error) {
	list, err := s.borders.Sources.Sources(ctx)
	if err != nil {
		return nil, fmt.Errorf("read the sources: %w", err)
	}
	signOns := []*keptSource{}
	for _, kept := range list {
		src, err := readSource(kept)
		if err != nil {
			return nil, err
		}
		of = append(of, src.of())
		if src.Kind == kindSignOn && !src.Paused && src.set.SignOn != nil {
			signOns = append(signOns, src)
		}
	}
	s.signOns.Store(&signOns)
	return of, nil
}

// keptSource is a source with its settings read.
type keptSource struct {
	store.Source
	set wire.NewSource
}

func readSource(kept store.Source) (*keptSource, error) {
	out := &keptSource{Source: kept}
	if err := json.Unmarshal(kept.Settings, &out.set); err != nil {
		return nil, fmt.Errorf("read the source %s: %w", kept.ID, err)
	}
	out.set.Version = kept.Version
	return out, nil
}

// way is by which way what the source says comes to the policy.
func (k *keptSource) way() Way {
	if feed := k.feed(); feed != nil && feed.URL == "" {
		return WayContent
	}
	return WaySource
}

// of is the source as others know it.
func (k *keptSource) of() source.Of {
	out := source.Of{ID: k.ID, Name: k.Name, Undo: k.set.Bring.Undo == source.UndoUntilNext}
	for _, m := range k.set.Bring.Groups {
		out.Groups = append(out.Groups, m.Group)
	}
	return out
}

func (s *Service) sourceOf(ctx context.Context, id string) (*keptSource, error) {
	list, err := s.borders.Sources.Sources(ctx)
	if err != nil {
		return nil, err
	}
	for _, kept := range list {
		if kept.ID == id {
			return readSource(kept)
		}
	}
	return nil, ErrNotFound
}

// Sources lists the sources, for whoever sees the policy as a whole.
func (s *Service) Sources(ctx context.Context, c Caller) ([]wire.Source, error) {
	if err := s.Permit(s.State(), c, Whole, ""); err != nil {
		return nil, err
	}
	list, err := s.borders.Sources.Sources(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.Source{}
	for _, kept := range list {
		k, err := readSource(kept)
		if err != nil {
			return nil, err
		}
		told, err := s.wireSource(ctx, c, k, 0)
		if err != nil {
			return nil, err
		}
		out = append(out, told)
	}
	return out, nil
}

// Source is one source, with its last readings.
func (s *Service) Source(ctx context.Context, c Caller, id string) (wire.Source, error) {
	if err := s.Permit(s.State(), c, Whole, ""); err != nil {
		return wire.Source{}, err
	}
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return wire.Source{}, err
	}
	return s.wireSource(ctx, c, k, runsTold)
}

// checkSource finds what is wrong with the settings of a source, and gives them as they are kept.
func (s *Service) checkSource(in wire.NewSource) (wire.NewSource, []byte, error) {
	in.Name, in.Version = strings.TrimSpace(in.Name), 0
	if err := checkName(in.Name); err != nil {
		return in, nil, err
	}
	kind := kindOf(in.Kind)
	if kind == nil {
		return in, nil, Wrong("kind", "%q is not known: write %s", policy.Clip(in.Kind), kindNames())
	}
	if in.Every < 0 || in.Every > mostEvery {
		return in, nil, Wrong("every", "%d is out of range: %d to %d", in.Every, 0, mostEvery)
	}
	if in.Every > 0 && kind.read == nil {
		return in, nil, Wrong("every", "goes with a source that is read: this one brings by itself")
	}
	for _, other := range sourceKinds {
		if has := other.has != nil && other.has(&in); has && other != kind {
			return in, nil, Wrong(other.settings(), "goes with the kind %s, and that with it", other.name)
		}
	}
	if kind.has != nil && !kind.has(&in) {
		return in, nil, Wrong(kind.settings(), "goes with the kind %s, and that with it", kind.name)
	}
	if kind.check != nil {
		if field, problem := kind.check(&in); problem != nil {
			return in, nil, &InputError{Field: kind.settings() + "." + field, Problem: *problem}
		}
	}
	if in.Bring.Same && kind.name != kindInventory {
		return in, nil, Wrong("bring.same", "goes with the kind %s, and that with it", kindInventory)
	}
	if in.Bring.Gone != "" && (kind.name == kindInventory || kind.name == kindCalendar) {
		return in, nil, Wrong("bring.gone", "is of people: what is no longer there of devices and sites is told, and stays")
	}
	if len(in.Bring.Calendars) > 0 && kind.name != kindCalendar {
		return in, nil, Wrong("bring.calendars", "goes with the kind %s, and that with it", kindCalendar)
	}
	if field, problem := in.Bring.Check(s.State().Policy); problem != nil {
		return in, nil, &InputError{Field: "bring." + field, Problem: *problem}
	}
	text, err := json.Marshal(in)
	if err == nil && len(text) > mostSourceSize {
		err = Wrong("bring", "comes to %d kB: a source has %d at most", len(text)>>10, mostSourceSize>>10)
	}
	return in, text, err
}

// NewSource sets a source up. Nothing is read until somebody looks, or its hour comes.
func (s *Service) NewSource(ctx context.Context, c Caller, in wire.NewSource) (wire.Source, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Source{}, err
	}
	if err := s.alone(c, ActAddSource, in.Name); err != nil {
		return wire.Source{}, err
	}
	return s.newSource(ctx, c, in)
}

func (s *Service) newSource(ctx context.Context, c Caller, in wire.NewSource) (wire.Source, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Source{}, err
	}
	in, text, err := s.checkSource(in)
	if err != nil {
		return wire.Source{}, err
	}
	s.sourcing.changing.Lock()
	defer s.sourcing.changing.Unlock()
	list, err := s.borders.Sources.Sources(ctx)
	if err != nil {
		return wire.Source{}, err
	}
	if len(list) >= mostSources {
		return wire.Source{}, Wrong("name", "there are %d sources: take one away first", len(list))
	}
	for _, other := range list {
		if policy.FoldName(other.Name) == policy.FoldName(in.Name) {
			return wire.Source{}, Wrong("name", "there is a source %q already: choose another name", other.Name)
		}
	}
	now := s.borders.Clock().UTC()
	k := &keptSource{Source: store.Source{Name: in.Name, Kind: in.Kind, Settings: text, Author: string(c.User), Mandate: string(c.Mandate), Hands: string(c.User), CreatedAt: now, Version: 1, Paused: in.Paused}, set: in}
	k.ID = policy.MakeID(in.Name, func(id string) bool {
		return slices.ContainsFunc(list, func(x store.Source) bool { return x.ID == id })
	})
	k.NextRun = k.after(now)
	if err := s.kept(s.borders.Sources.AddSource(ctx, k.Source)); err != nil {
		return wire.Source{}, err
	}
	s.note(c, audit.Source, audit.Made, "", details{"source": k.ID, "name": k.Name, "after": in})
	if err := s.sourcesChanged(ctx); err != nil {
		return wire.Source{}, err
	}
	s.wakeHours()
	return s.wireSource(ctx, c, k, 0)
}

// after is when the source is read next, after an instant; nil: not by itself.
func (k *keptSource) after(now time.Time) *time.Time {
	if k.set.Every == 0 || k.Paused {
		return nil
	}
	next := now.Add(time.Duration(k.set.Every) * time.Minute)
	return &next
}

// ChangeSource sets a source up otherwise. From then on it is read as whoever changed it.
func (s *Service) ChangeSource(ctx context.Context, c Caller, id string, in wire.NewSource) (wire.Source, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Source{}, err
	}
	if err := s.alone(c, ActEditSource, id); err != nil {
		return wire.Source{}, err
	}
	return s.changeSource(ctx, c, id, in)
}

func (s *Service) changeSource(ctx context.Context, c Caller, id string, in wire.NewSource) (wire.Source, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Source{}, err
	}
	version := in.Version
	in, text, err := s.checkSource(in)
	if err != nil {
		return wire.Source{}, err
	}
	s.sourcing.changing.Lock()
	defer s.sourcing.changing.Unlock()
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return wire.Source{}, err
	}
	if version != 0 && version != k.Version {
		return wire.Source{}, &DraftError{policy.Say("the source %q has been changed since you read it: look at it again", k.Name)}
	}
	before := k.set
	k.Name, k.Settings, k.set, k.Author, k.Mandate, k.Paused = in.Name, text, in, string(c.User), string(c.Mandate), in.Paused
	k.Hands = handed(k.Hands, c.User)
	k.Version++
	k.NextRun = k.after(s.borders.Clock().UTC())
	if err := s.keepSource(ctx, k); err != nil {
		return wire.Source{}, err
	}
	s.note(c, audit.Source, audit.Done, "", details{"source": k.ID, "name": k.Name, "before": before, "after": in})
	s.wakeHours()
	return s.wireSource(ctx, c, k, 0)
}

// keepSource keeps what became of a source, and lets everybody know. The caller holds s.sourcing.changing.
func (s *Service) keepSource(ctx context.Context, k *keptSource) error {
	kept, err := s.borders.Sources.KeepSource(ctx, k.Source)
	if err := s.kept(err); err != nil {
		return err
	}
	if !kept {
		return ErrNotFound
	}
	k.set.Version = k.Version
	return s.sourcesChanged(ctx)
}

// DropSource takes a source away. What it has brought stays, and is from then on like any other record.
func (s *Service) DropSource(ctx context.Context, c Caller, id string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	if err := s.alone(c, ActRemoveSource, id); err != nil {
		return err
	}
	return s.dropSource(ctx, c, id)
}

func (s *Service) dropSource(ctx context.Context, c Caller, id string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	s.sourcing.changing.Lock()
	defer s.sourcing.changing.Unlock()
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return err
	}
	if err := s.kept(s.borders.Sources.DropSource(ctx, id)); err != nil {
		return err
	}
	s.sourcing.read.Delete(id)
	s.note(c, audit.Source, audit.Ended, "", details{"source": k.ID, "name": k.Name, "before": k.set})
	return s.sourcesChanged(ctx)
}

// LinkSource says that somebody of a source is a user who was here before: from the next reading on, the source keeps them.
func (s *Service) LinkSource(ctx context.Context, c Caller, id string, in wire.LinkSource) (wire.Source, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Source{}, err
	}
	if err := s.alone(c, ActLinkSource, id); err != nil {
		return wire.Source{}, err
	}
	return s.linkSource(ctx, c, id, in)
}

func (s *Service) linkSource(ctx context.Context, c Caller, id string, in wire.LinkSource) (wire.Source, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Source{}, err
	}
	if in.Outside == "" || len(in.Outside) > maxOutside {
		return wire.Source{}, Wrong("outside", "is the id of somebody at the source: look for them there first")
	}
	if err := s.handOut(ctx, c, in.User, "link at a source"); in.User != "" && err != nil {
		return wire.Source{}, err
	}
	s.sourcing.changing.Lock()
	defer s.sourcing.changing.Unlock()
	k, err := s.sourceOf(ctx, id)
	if err != nil {
		return wire.Source{}, err
	}
	if in.User != "" && !s.linkable(k, in.User) {
		return wire.Source{}, Wrong("user", "there is no record %q here that could be it", policy.Clip(in.User))
	}
	links := map[string]string{}
	for outside, user := range k.set.Bring.Links {
		if outside != in.Outside && user != in.User {
			links[outside] = user
		}
	}
	if in.User != "" {
		links[in.Outside] = in.User
	}
	k.set.Bring.Links = links
	k.set.Version = 0
	if k.Settings, err = json.Marshal(k.set); err != nil {
		return wire.Source{}, fmt.Errorf("write the source %s: %w", k.ID, err)
	}
	k.Version++
	if err := s.keepSource(ctx, k); err != nil {
		return wire.Source{}, err
	}
	s.note(c, audit.Source, audit.Done, in.User, details{"source": k.ID, "name": k.Name, "linked": in.Outside})
	return s.wireSource(ctx, c, k, 0)
}

// linkable tells whether a thing of a source can be the record of an id: a user, or of an inventory a device or a site.
func (s *Service) linkable(k *keptSource, id string) bool {
	p := s.State().Policy
	types := []policy.Type{policy.Users}
	if k.Kind == kindInventory {
		types = []policy.Type{policy.Devices, policy.Sites}
	}
	return slices.ContainsFunc(types, func(t policy.Type) bool { _, ok := p.Get(t, id); return ok })
}

// maxOutside bounds the ids that sources give to things, in bytes.
const maxOutside = 4096

// elsewhere tells whether a password is that which the directory keeps from which somebody comes, where they sign in by it.
func (s *Service) elsewhere(ctx context.Context, user, password string) (is, asked bool, err error) {
	o, ok := s.known.Load().Origin(policy.Users, user)
	if !ok || o.Gone {
		return false, false, nil
	}
	k, err := s.sourceOf(ctx, o.Source)
	if err != nil || k.set.Directory == nil || !k.set.Directory.SignIn {
		return false, false, err
	}
	ctx, cancel := context.WithTimeout(ctx, signInTime)
	defer cancel()
	err = s.borders.Outside.SignIn(ctx, *k.set.Directory, o.Place, password)
	switch {
	case err == nil:
		return true, true, nil
	case errors.Is(err, directory.ErrPassword):
		return false, true, nil
	}
	s.borders.Log.Warn("a directory does not say whether a password is right", "source", k.ID, "error", err)
	return false, true, errNoWord
}

// signInTime is how long a directory has for a password.
const signInTime = 10 * time.Second

// errNoWord tells whoever signs in no more than that.
var errNoWord = &UnreadError{Why: policy.Say("the directory that keeps the password does not answer: try again in a while")}

// UnreadError is that a source could not be read; see [outbound.Error].
type UnreadError = outbound.Error
