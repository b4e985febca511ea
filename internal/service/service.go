// Package service is the one door to the policy: every question and every change goes through it, knows its
// caller, and counts from the moment it is answered.
package service

import (
	"cmp"
	"context"
	"crypto/cipher"
	"errors"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/decision"
	"sentier/internal/identity"
	"sentier/internal/notifier"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/source"
	"sentier/internal/store"
)

// Service answers from the policy's last revision and makes the next ones.
type Service struct {
	borders Borders

	current atomic.Pointer[State]
	writing sync.Mutex // held by the one change that is being saved
	many    sync.Mutex // held by the one large change that is on its way
	who     *identity.Registry

	progress progress
	revised  notifier.Notifier
	machined notifier.Notifier
	telling  telling

	checked chan struct{}          // closed once the files were looked at
	unsafe  atomic.Pointer[string] // why nothing may be changed; nil: it may
	full    atomic.Bool            // the last change found no room on the disk
	setUp   setUpCode

	answering   sync.Mutex // held by the one request that is being answered
	drafted     atomic.Pointer[lastDrafted]
	reviewing   sync.Mutex // held by the one review that is being changed
	remind      atomic.Pointer[func(context.Context, []Reminder)]
	openReviews sync.Map        // *review by id, as last read
	drafting    sync.Mutex      // held by the one draft that is being changed
	timed       map[string]bool // drafts whose gifts are known to carry their end; under drafting
	nextHour    atomic.Int64    // when something is due next, in Unix milliseconds; 0: not known

	feeds    atomic.Pointer[feeds]
	feeding  sync.Mutex // held by whoever makes a feed or takes one away
	sourcing sourcing
	bearers  bearers
	leaving  leaving // people, by providers that push
	hooking  hooks
	seal     cipher.AEAD                   // of what browsers keep of a sign-in at a provider
	signOns  atomic.Pointer[[]*keptSource] // at which people may sign in now
	known    atomic.Pointer[source.Known]  // what the sources have brought; it is changed by the one change that is being saved

	settings atomic.Pointer[settings]
	folds    folds
	pasts    pasts
	findings findings
}

// State is a revision, ready to be asked. It never changes.
type State struct {
	Policy   *policy.Policy
	Compiled *decision.Compiled
	Revision store.Revision

	judged *State // by whose mandates it is judged what somebody may; nil: by its own
}

// Open starts a service within its borders. The first answers do not wait for the look at every page of the database that begins here; the
// first change does.
func Open(ctx context.Context, borders Borders) (*Service, error) {
	s := &Service{borders: borders, checked: make(chan struct{}), timed: map[string]bool{}}
	if err := s.load(ctx); err != nil {
		return nil, err
	}
	var err error
	s.who, err = identity.Open(ctx, identity.Around{
		Site: borders.Site, Kept: borders.Credentials, Clock: borders.Clock, Log: borders.Log,
		MayEnter: s.mayEnter, Elsewhere: s.elsewhere, Failed: s.kept, Made: s.telling.more,
		Ended: func() { s.revised.Notify(); s.telling.more() },
	})
	if err != nil {
		return nil, err
	}
	if err := s.loadSettings(ctx); err != nil {
		return nil, err
	}
	if s.seal, err = newSeal(); err != nil {
		return nil, err
	}
	if err := s.loadFeeds(ctx); err != nil {
		return nil, err
	}
	if err := s.loadSources(ctx); err != nil {
		return nil, err
	}
	return s, s.beginRecord(ctx)
}

// kept turns the error of what could not be written into one that says so.
func (s *Service) kept(err error) error {
	if errors.Is(err, store.ErrFull) {
		s.full.Store(true)
		return &FullError{s.borders.Files.Dir()}
	}
	return ofLine(err)
}

// Watch looks at the files once, and after them until ctx ends.
func (s *Service) Watch(ctx context.Context) {
	if notice := s.borders.Files.Notice(); notice != "" {
		s.borders.Log.Warn(notice)
	}
	if err := errors.Join(s.borders.Files.CheckPages(ctx), s.borders.Files.CheckRows(ctx), s.borders.Files.CheckAccounted(ctx)); err != nil && ctx.Err() == nil {
		s.doubt(err)
	}
	close(s.checked)
	go s.borders.Files.Keep(ctx, s.borders.Clock, s.borders.Log)
	var hours sync.WaitGroup
	_, follows := s.follows()
	if !follows { // what is due is done once, by the machine that writes
		hours.Go(func() { s.keepHours(ctx) })
		hours.Go(func() { s.keepHooks(ctx) })
	}
	defer hours.Wait() // what is due is done in full, or not begun
	recorded := make(chan struct{})
	go func() {
		defer close(recorded)
		s.borders.Record.Keep(ctx, func() time.Duration { return time.Duration(s.settings.Load().KeepDays) * 24 * time.Hour })
	}()
	defer func() { <-recorded }()
	kept := uint64(0) // the revision of the picture, as far as it was kept here
	for n := 0; ; n++ {
		if n%picturesAfter == 0 && !follows {
			kept = s.keepPicture(kept)
		}
		select {
		case <-ctx.Done():
			if !follows {
				s.keepPicture(kept)
			}
			s.keepFolds(true)
			s.keepUses(context.WithoutCancel(ctx))
			return
		case <-time.After(watchEvery):
		}
		s.keepFolds(false)
		if n%usesAfter == 0 {
			s.keepUses(ctx)
		}
		if err := s.borders.Files.Replaced(); err != nil {
			s.doubt(err)
		}
	}
}

// keepUses keeps when credentials were used last.
func (s *Service) keepUses(ctx context.Context) {
	if err := s.who.KeepUses(ctx); err != nil && ctx.Err() == nil {
		s.borders.Log.Debug("when credentials were used last could not be kept", "error", err)
	}
}

// keepPicture keeps a picture of the policy, from which the next start reads it at once, unless that is of a revision already.
func (s *Service) keepPicture(of uint64) uint64 {
	st := s.State()
	if st.Revision.Number == of || s.unsafe.Load() != nil {
		return of
	}
	if err := s.borders.Files.KeepPicture(st.Policy, st.Revision); err != nil {
		s.borders.Log.Warn("the next start will take longer", "error", err)
	}
	return st.Revision.Number
}

const (
	watchEvery    = 2 * time.Second
	picturesAfter = 450 // looks: a quarter of an hour
	usesAfter     = 30  // a minute
)

// doubt lets nothing be changed any more, as what is kept may not be what it was.
func (s *Service) doubt(err error) {
	why := err.Error()
	if s.unsafe.Swap(&why) == nil {
		s.borders.Log.Error("nothing can be changed from now on", "why", why)
	}
}

// mayChange refuses changes while the files are not known to be whole.
func (s *Service) mayChange() error {
	if writer, follows := s.follows(); follows {
		return &ElsewhereError{writer}
	}
	<-s.checked
	if why := s.unsafe.Load(); why != nil {
		return &UnsafeError{*why}
	}
	return nil
}

// Reload takes the last revision from the store, which something else than this service has made.
func (s *Service) Reload(ctx context.Context) error {
	if err := s.load(ctx); err != nil {
		return err
	}
	return s.catchUpRecord(ctx, s.State().Revision.Number)
}

func (s *Service) load(ctx context.Context) error {
	p, last, err := s.borders.Revisions.Load(ctx)
	if err != nil {
		return err
	}
	s.current.Store(&State{Policy: p, Compiled: decision.Compile(p), Revision: last})
	return nil
}

// State is the current revision.
func (s *Service) State() *State { return s.current.Load() }

// Now is the service's clock.
func (s *Service) Now() time.Time { return s.borders.Clock() }

// Revisions lists the last of some revisions, newest first.
func (s *Service) Revisions(ctx context.Context, w store.Which, limit int) ([]store.Revision, error) {
	return s.borders.History.Revisions(ctx, w, limit)
}

// ChangesOf reads what a revision did to each record.
func (s *Service) ChangesOf(ctx context.Context, revision uint64) ([]policy.RecordChange, error) {
	return s.borders.History.Changes(ctx, revision)
}

// TouchedBy lists the first records that a revision changed, and tells how many there are.
func (s *Service) TouchedBy(ctx context.Context, revision uint64, limit int) ([]store.Touched, int, error) {
	return s.borders.History.TouchedBy(ctx, revision, limit)
}

// Ready tells whether questions are answered, and whether changes can be kept as well; the error says what is missing.
func (s *Service) Ready() (status string, err error) {
	switch why := s.unsafe.Load(); {
	case s.State().Revision.Number == 0:
		return "", ErrNoOwner
	case why != nil:
		return "answers, but cannot save: " + *why, nil
	case s.borders.Line != nil && s.borders.Line.Problem() != "":
		return "answers, but cannot save: " + s.borders.Line.Problem(), nil
	case s.full.Load():
		return "answers, but cannot save: " + (&FullError{s.borders.Files.Dir()}).Error(), nil
	}
	if behind := s.ClockBehind(); behind > 0 {
		return "ready, but the clock of this machine is " + behind.Round(time.Second).String() + " behind the greatest instant that was seen here: set it right", nil
	}
	return "ready", nil
}

// ClockBehind is how far the machine's clock is behind the greatest instant that was seen; 0: it is not.
func (s *Service) ClockBehind() time.Duration {
	if s.borders.Behind == nil {
		return 0
	}
	return s.borders.Behind()
}

// save writes the next revision, unless no lasting owner would be left, or an expectation would not hold any more. Nothing is changed where it fails.
func (m *making) save() error {
	s, o := m.Service, m.o
	note := o.note()
	if len([]rune(note)) > maxNote {
		return Wrong("note", "is longer than %d characters", maxNote)
	}
	if s.settings.Load().ReasonRequired && m.caller.Token != "" && strings.TrimSpace(note) == "" {
		return Wrong("note", "is missing: a setting of the service asks for a reason with every change")
	}
	via := cmp.Or(ways[o.way].via, m.caller.Via)
	m.next = &State{Policy: m.policy, Revision: store.Revision{
		Number: m.now.Revision.Number + 1, At: s.borders.Clock().UTC().Truncate(time.Millisecond),
		By: string(m.caller.User), Via: via, Note: note,
	}}
	kept, err := m.answer()
	if err != nil {
		return err
	}
	if o.Key != "" {
		m.next.Revision.RequestKey, m.next.Revision.RequestHash, m.next.Revision.Answer = &o.Key, o.Request[:], kept
	}
	if (o.leaves(StepKept) || len(o.brought) > 0) && o.plan == nil {
		o.plan = s.known.Load().Undone(m.done)
	}
	saving := store.Saving{Brought: broughtBy(o.plan), Wrote: func(n, of int) { s.progress.wrote(m.caller, o.Key, n, of) }, Staged: m.staged}
	saving.Removed, saving.Suspended = store.EndedAccounts(m.done)
	for _, user := range m.given {
		saving.Given = append(saving.Given, store.Given{By: string(m.caller.User), UserID: string(user), At: m.next.Revision.At})
	}
	if m.expected == nil { // nothing is expected of it, and it is compiled while the rows are written
		m.expected = make(chan error, 1)
		go func() {
			m.compile(m.now)
			m.expected <- nil
		}()
	}
	saving.Agree = func() error {
		unmet := <-m.expected
		m.next.Compiled = m.compiled
		if err := s.keepsOwner(m.ctx, m.caller, m.now, m.next); err != nil {
			return err
		}
		return unmet
	}
	saving.Committed = func() {
		m.changed(m.caller, m.next, m.done)
		m.recorded = true
	}
	err = s.borders.Revisions.Append(m.ctx, &m.next.Revision, m.done, saving)
	if errors.Is(err, store.ErrUnmarked) {
		s.doubt(err) // the revision stands, and is told; none follows until the mark can be written
		err = nil
	}
	if errors.Is(err, replica.ErrUnknown) || errors.Is(err, replica.ErrMoved) {
		return ofLine(err)
	}
	if err := s.noRoom(err); err != nil {
		return err
	}
	m.next.Revision.Answer = nil
	if o.plan != nil || len(saving.Removed) > 0 && !s.known.Load().Empty() {
		s.known.Store(s.known.Load().With(o.plan, saving.Removed))
	}
	s.who.Forget(saving.Removed, saving.Suspended)
	return nil
}

// record enters the revision in the audit log, where saving it has not done so while it waited for the disk.
func (m *making) record() error {
	if !m.recorded {
		m.changed(m.caller, m.next, m.done)
	}
	return nil
}

// publish has the next question answered by the revision.
func (m *making) publish() error {
	m.current.Store(m.next)
	return nil
}

// tell wakes whoever follows.
func (m *making) tell() error {
	m.revised.Notify()
	m.borders.Log.Info("revision", "number", m.next.Revision.Number, "by", m.caller.User, "via", m.next.Revision.Via, "records", len(m.done))
	return nil
}

// noRoom notes whether a change found room on the disk, and says so where it found none.
func (s *Service) noRoom(err error) error {
	full := errors.Is(err, store.ErrFull)
	s.full.Store(full)
	if full {
		s.borders.Log.Error("a change found no room on the disk", "error", err)
		return &FullError{s.borders.Files.Dir()}
	}
	return err
}

// maxNote bounds the reason that is given for a change, in characters.
const maxNote = 4000

// keepsOwner refuses a policy that would leave no lasting owner: "Who may administer".
func (s *Service) keepsOwner(ctx context.Context, caller Caller, now, next *State) error {
	at := s.borders.Clock()
	if s.who.HasPassword(caller.User) && slices.Contains(next.Compiled.LastingOwners(at), caller.User) {
		return nil // the usual case
	}
	withPassword, err := s.who.WithPassword(ctx)
	if err != nil {
		return err
	}
	owners := func(st *State) []string {
		var out []string
		for _, id := range st.Compiled.LastingOwners(at) {
			if slices.Contains(withPassword, string(id)) {
				out = append(out, string(id))
			}
		}
		return out
	}
	if len(owners(next)) > 0 {
		return nil
	}
	if before := owners(now); len(before) > 0 {
		return &LastOwnerError{Owners: before}
	}
	return nil
}
