package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"
	"golang.org/x/time/rate"

	"sentier/internal/audit"
	"sentier/internal/identity"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Bounds of feeds.
const (
	mostOwnFeeds = 20
	mostFeeds    = 10_000
)

// The kinds of feeds.
const (
	FeedSchedule = "schedule"
	FeedReach    = "reach"
	FeedEnds     = "ends"
)

// viaFeed is by what somebody reads who has the secret address of a feed.
const viaFeed = "feed"

// feeds are all feeds by the hashes of their secrets: a made-up one is looked for nowhere else.
type feeds map[[sha256.Size]byte]*keptFeed

// keptFeed is a feed, and how often it may be read: it takes a while to work out.
type keptFeed struct {
	*store.Feed
	reads *rate.Limiter
}

// How often a feed may be read.
const (
	feedPause = 10 * time.Second
	feedBurst = 10
)

// loadFeeds reads which feeds there are.
func (s *Service) loadFeeds(ctx context.Context) error {
	list, err := s.borders.Feeds.Feeds(ctx)
	if err != nil {
		return fmt.Errorf("read the feeds: %w", err)
	}
	all := feeds{}
	for i := range list {
		if hash := list[i].Hash; len(hash) == sha256.Size {
			all[[sha256.Size]byte(hash)] = &keptFeed{&list[i], rate.NewLimiter(rate.Every(feedPause), feedBurst)}
		}
	}
	s.feeds.Store(&all)
	return nil
}

// FeedOf finds the feed of a secret, and as whom it is read. The error is [ErrNotFound] where there is none, or whoever made it may not come in any more, and of type [TooManyError] where it
// is read too often.
func (s *Service) FeedOf(secret string) (*store.Feed, Caller, error) {
	f := (*s.feeds.Load())[sha256.Sum256([]byte(secret))]
	if f == nil {
		return nil, Caller{}, ErrNotFound
	}
	c := Caller{User: policy.UserID(f.UserID), Mandate: policy.MandateID(f.Mandate), Via: viaFeed, Token: f.ID}
	if s.mayEnter(c.User) != nil || s.MayFeed(c, f.Kind, f.Of) != nil {
		return nil, Caller{}, ErrNotFound // whatever the reason, it is no concern of whoever has found the address
	}
	if !f.reads.Allow() {
		return nil, Caller{}, &TooManyError{After: feedPause}
	}
	return f.Feed, c, nil
}

// MayFeed tells whether a caller may see what a feed is of; the error says why not.
func (s *Service) MayFeed(c Caller, kind, of string) error {
	st := s.State()
	switch kind {
	case FeedSchedule:
		if err := s.Permit(st, c, Read, ""); err != nil {
			return err
		}
		if _, ok := s.View(st, c).Get(policy.Schedules, of); !ok {
			return Wrong("of", "there is no schedule %q", policy.Clip(of))
		}
	case FeedReach:
		if of == string(c.User) {
			return nil
		}
		if err := s.Permit(st, c, Whole, ""); err != nil {
			return err
		}
		if _, ok := st.Policy.Get(policy.Users, of); !ok {
			return Wrong("of", "there is no user %q", policy.Clip(of))
		}
	case FeedEnds:
		if of != "" {
			return Wrong("of", "is of no record: the ends of all are told")
		}
		return s.Permit(st, c, Read, "")
	default:
		return Wrong("kind", "%q is none of schedule, reach and ends", policy.Clip(kind))
	}
	return nil
}

// NewFeed makes a feed. Its secret address is told once.
func (s *Service) NewFeed(ctx context.Context, c Caller, in wire.NewFeed) (wire.Feed, error) {
	if c.Source != "" {
		return wire.Feed{}, &ForbiddenError{Missing: policy.Say("a sign-in, or a token of somebody's own")}
	}
	if in.Kind == FeedReach {
		in.Of = cmp.Or(in.Of, string(c.User))
	}
	if err := s.MayFeed(c, in.Kind, in.Of); err != nil {
		return wire.Feed{}, err
	}
	if in.Zone != "" {
		if _, err := policy.LoadZone(policy.Clip(in.Zone)); err != nil {
			return wire.Feed{}, Wrong("zone", "%v", err)
		}
	}
	s.feeding.Lock()
	defer s.feeding.Unlock()
	all := *s.feeds.Load()
	own := 0
	for _, f := range all {
		own += boolBit(f.UserID == string(c.User))
	}
	if own >= mostOwnFeeds || len(all) >= mostFeeds {
		return wire.Feed{}, Wrong("kind", "there are %d feeds of yours: take one away first", own)
	}
	id, err := uuid.NewV7()
	if err != nil {
		return wire.Feed{}, fmt.Errorf("make a feed: %w", err)
	}
	secret, hash := identity.NewSecret("")
	f := store.Feed{ID: id.String(), Hash: hash, Kind: in.Kind, Of: in.Of, Zone: in.Zone, UserID: string(c.User), Mandate: string(c.Mandate), CreatedAt: s.borders.Clock().UTC()}
	if err := s.kept(s.borders.Feeds.AddFeed(ctx, f)); err != nil {
		return wire.Feed{}, err
	}
	s.note(c, audit.Token, audit.Made, in.Of, details{"feed": f.ID, "kind": f.Kind})
	out := s.wireFeed(&f)
	out.Path = "/feeds/" + secret + ".ics"
	return out, s.loadFeeds(ctx)
}

// DropFeed takes a feed away: its address is good for nothing from then on.
func (s *Service) DropFeed(ctx context.Context, c Caller, id string) error {
	s.feeding.Lock()
	defer s.feeding.Unlock()
	for _, f := range *s.feeds.Load() {
		if f.ID != id || f.UserID != string(c.User) && s.Permit(s.State(), c, Manage, "") != nil {
			continue
		}
		if err := s.kept(s.borders.Feeds.DropFeed(ctx, id)); err != nil {
			return err
		}
		s.note(c, audit.Token, audit.Ended, f.Of, details{"feed": f.ID, "kind": f.Kind})
		return s.loadFeeds(ctx)
	}
	return ErrNotFound
}

// Feeds lists the caller's own feeds, and those of everybody for whoever manages the service; the last made first.
func (s *Service) Feeds(_ context.Context, c Caller) ([]wire.Feed, error) {
	all := s.Permit(s.State(), c, Manage, "") == nil
	out := []wire.Feed{}
	for _, f := range *s.feeds.Load() {
		if all || f.UserID == string(c.User) {
			out = append(out, s.wireFeed(f.Feed))
		}
	}
	slices.SortFunc(out, func(a, b wire.Feed) int { return cmp.Compare(b.ID, a.ID) })
	return out, nil
}

func (s *Service) wireFeed(f *store.Feed) wire.Feed {
	out := wire.Feed{ID: f.ID, NewFeed: wire.NewFeed{Kind: f.Kind, Of: f.Of, Zone: f.Zone}, User: s.named(f.UserID), Created: f.CreatedAt}
	switch f.Kind {
	case FeedSchedule:
		out.Name = s.State().Policy.Title(policy.Schedules, f.Of)
	case FeedReach:
		out.Name = s.State().Policy.Title(policy.Users, f.Of)
	}
	return out
}
