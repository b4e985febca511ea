package service

import (
	"context"
	"log/slog"
	"net/url"
	"path/filepath"
	"time"

	"sentier/internal/database"
	"sentier/internal/directory"
	"sentier/internal/identity"
	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/signon"
	"sentier/internal/store"
)

// What stands around the service, each as little as it asks of it. A [store.Store] is all of them but the record and the clock.
type (
	// Revisions is where revisions come from and go to. Append returns once the revision cannot be lost any more, and an error where
	// it was not kept, or [store.ErrUnmarked] where it was but no other can follow.
	Revisions interface {
		Load(ctx context.Context) (*policy.Policy, store.Revision, error)
		Append(ctx context.Context, r *store.Revision, done []policy.RecordChange, how store.Saving) error
	}

	// History is what the revisions did.
	History interface {
		Revisions(ctx context.Context, w store.Which, limit int) ([]store.Revision, error)
		RevisionOf(ctx context.Context, user, key string) (store.Revision, error)
		Changes(ctx context.Context, revision uint64) ([]policy.RecordChange, error)
		TouchedBy(ctx context.Context, revision uint64, limit int) (first []store.Touched, all int, err error)
		Back(ctx context.Context, after uint64, from store.Revision) ([][]policy.RecordChange, error)
		RevisionAt(ctx context.Context, at time.Time) (store.Revision, error)
		LaterChange(ctx context.Context, typeName, id string, after uint64) (uint64, error)
	}

	// Stage is where a large change is laid ready beside what others write.
	Stage interface {
		Stage(ctx context.Context, done []policy.RecordChange, before *store.Staged, wrote func(n, of int)) (*store.Staged, error)
		Unstage(ctx context.Context) error
	}

	// Credentials are what people and machines prove with who they are, kept as hashes.
	Credentials = identity.Kept

	// Looks were kept of whoever looked at what another may do, before there was a record.
	Looks interface {
		Looks(ctx context.Context, limit int) ([]store.Look, error)
	}

	// Requests are what people ask for who may not do it by themselves.
	Requests interface {
		AddRequest(ctx context.Context, r store.Request) error
		AnswerRequest(ctx context.Context, r store.Request) (answered bool, err error)
		Requests(ctx context.Context, user, state string, since time.Time, limit int) ([]store.Request, error)
		RequestOfID(ctx context.Context, id string) (store.Request, error)
	}

	// Drafts are changes that are gathered before they count.
	Drafts interface {
		AddDraft(ctx context.Context, d store.Draft) error
		KeepDraft(ctx context.Context, d store.Draft) (kept bool, err error)
		Drafts(ctx context.Context, over bool, limit int) ([]store.Draft, error)
		DraftOfID(ctx context.Context, id string) (store.Draft, error)
	}

	// Reviews are rounds in which those responsible confirm or take away what people hold.
	Reviews interface {
		AddReview(ctx context.Context, r store.Review, items []store.ReviewItem) error
		KeepReview(ctx context.Context, r store.Review, items []store.ReviewItem) (kept bool, err error)
		Reviews(ctx context.Context, since time.Time, limit int) ([]store.Review, error)
		ReviewOfID(ctx context.Context, id string) (store.Review, error)
		ReviewItems(ctx context.Context, id string) ([]store.ReviewItem, error)
	}

	// Sources are where records come from that are kept outside, and what they have brought.
	Sources interface {
		AddSource(ctx context.Context, src store.Source) error
		KeepSource(ctx context.Context, src store.Source) (kept bool, err error)
		DropSource(ctx context.Context, id string) error
		Sources(ctx context.Context) ([]store.Source, error)
		Origins(ctx context.Context) ([]store.Origin, []store.OriginMember, error)
		KeepBrought(ctx context.Context, b *store.Brought) error
		AddRun(ctx context.Context, run *store.SourceRun, next *time.Time) error
		KeepContent(ctx context.Context, c store.SourceContent) error
		Content(ctx context.Context, source string) (store.SourceContent, error)
		ContentAt(ctx context.Context, source string) (*time.Time, error)
		Runs(ctx context.Context, source string, limit int) ([]store.SourceRun, error)
		RunOf(ctx context.Context, revision uint64) (store.SourceRun, error)
	}

	// Hooks are to whom it is told what has happened.
	Hooks interface {
		AddHook(ctx context.Context, h store.Hook) error
		SetHook(ctx context.Context, h store.Hook) (kept bool, err error)
		HookTold(ctx context.Context, h store.Hook) (kept bool, err error)
		DropHook(ctx context.Context, id string) error
		Hooks(ctx context.Context) ([]store.Hook, error)
	}

	// Agreements are what tells who may be the second person of a change, and for whom one is needed.
	Agreements interface {
		HandOut(ctx context.Context, h store.HandedOut) error
		HandedOutTo(ctx context.Context, user string, since time.Time) ([]store.HandedOut, error)
		GivenBy(ctx context.Context, by string, since time.Time) ([]store.Given, error)
	}

	// Upkeep is which findings somebody has left as they are.
	Upkeep interface {
		Dismiss(ctx context.Context, d store.Dismissal) error
		Reopen(ctx context.Context, finding string) (was bool, err error)
		Dismissals(ctx context.Context, at time.Time) ([]store.Dismissal, error)
	}

	// Feeds are calendars that others read by a secret address.
	Feeds interface {
		AddFeed(ctx context.Context, f store.Feed) error
		DropFeed(ctx context.Context, id string) error
		Feeds(ctx context.Context) ([]store.Feed, error)
	}

	// Preferences are how people have the console.
	Preferences interface {
		KeepPreference(ctx context.Context, p store.Preference) error
		PreferenceOf(ctx context.Context, user string) (store.Preference, error)
	}

	// Blank is a store that may have no policy yet.
	Blank interface {
		Path() string
		LastRevision(ctx context.Context) (uint64, error)
		SetPassword(ctx context.Context, p store.Password) error
		SetFact(ctx context.Context, name, value string) error
		Append(ctx context.Context, r *store.Revision, done []policy.RecordChange, how store.Saving) error
	}

	// Files are looked after while the service runs, verified and copied.
	Files interface {
		Dir() string
		Writes() *database.Writes
		Notice() string
		FactOf(ctx context.Context, name string) (string, error)
		Verify(ctx context.Context) (store.Verified, error)
		Backup(ctx context.Context, path string) (store.Verified, error)
		CheckPages(ctx context.Context) error
		CheckRows(ctx context.Context) error
		CheckAccounted(ctx context.Context) error
		Replaced() error
		KeepPicture(p *policy.Policy, r store.Revision) error
		Keep(ctx context.Context, now func() time.Time, log *slog.Logger)
	}
)

// Borders are all that stands around a service. Every field is needed.
type Borders struct {
	Revisions   Revisions
	History     History
	Stage       Stage
	Credentials Credentials
	Looks       Looks
	Requests    Requests
	Drafts      Drafts
	Agreements  Agreements
	Reviews     Reviews
	Sources     Sources
	Outside     Outside // how sources are read
	SignOns     SignOns // how people sign in elsewhere
	Hooks       Hooks
	Secret      func(name string) (string, error) // finds a secret of the machine by its name
	Feeds       Feeds
	Upkeep      Upkeep
	Preferences Preferences
	Blank       Blank
	Files       Files
	Record      Record
	Clock       func() time.Time     // what the time is
	Behind      func() time.Duration // how far the machine's clock is behind the greatest instant that was seen; nil: nobody looks
	Log         *slog.Logger
	Machines    Machines                                        // the others on which the service runs
	Name        string                                          // of this one among them
	Line        Line                                            // to where revisions go before they count; nil: there is none
	Follows     func() string                                   // the name of the machine that writes; nil: this one does
	HandOver    func(ctx context.Context, machine string) error // has another machine write; nil: none stands by
	Site        *url.URL                                        // at which people open the console; nil: not known, and there are no passkeys
}

// On are the borders of a service on a store and a record.
func On(st *store.Store, record Record, log *slog.Logger, clock func() time.Time) Borders {
	secrets := outbound.Secrets{Folder: filepath.Join(st.Dir(), "secrets")}
	return Borders{Record: record, Outside: outside{directory.Reader{Secrets: secrets}}, Secret: secrets.Secret, SignOns: &signon.Providers{Secret: secrets.Secret}, Revisions: st, History: st, Stage: st, Credentials: st, Looks: st, Requests: st, Drafts: st, Agreements: st, Reviews: st, Sources: st, Hooks: st, Feeds: st, Upkeep: st, Preferences: st, Blank: st, Files: st, Clock: clock, Log: log, Machines: &Here{}}
}
