package store

import (
	"context"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Source is where records come from that are kept outside: a directory.
type Source struct {
	ID        string `gorm:"primaryKey"`
	Name      string
	Kind      string
	Settings  []byte    // JSON
	Author    string    // as whom it is read by the clock
	Mandate   string    // the only one of the author that counts then; empty: all
	Hands     string    // ids of all who have ever set it up, separated by spaces
	CreatedAt time.Time `gorm:"autoCreateTime:false"`
	Version   uint64    // counts what was done to it
	Paused    bool      // not read by the clock
	NextRun   *time.Time
	GoodAt    *time.Time // when it was last read in full, and what it said counted
}

// Origin is which record stands for a thing of a source.
type Origin struct {
	Source  string `gorm:"primaryKey"`
	Type    string `gorm:"primaryKey"`
	Outside string `gorm:"primaryKey"` // the id there, which stays when the thing is renamed
	Record  string
	Place   string // where it stands there, for people
	Gone    bool   // it is there no more

	Suspended bool   // the record was, for that
	Made      bool   // the source has made it, and keeps its name
	Told      []byte // JSON: what else the source says of it; empty: nothing
}

// OriginMember is that a membership was brought by a source.
type OriginMember struct {
	Source  string `gorm:"primaryKey"`
	GroupID string `gorm:"primaryKey"`
	UserID  string `gorm:"primaryKey"`
}

// SourceRun is what became of one reading of a source.
type SourceRun struct {
	Source   string `gorm:"primaryKey"`
	Number   uint64 `gorm:"primaryKey"`
	At       time.Time
	Took     time.Duration
	By       string // who had it read; empty: the clock
	Outcome  string
	Revision uint64 // that it made; 0: none
	Told     []byte // JSON
}

// SourceContent is what was brought to a source that is read from no address.
type SourceContent struct {
	Source string `gorm:"primaryKey"`
	At     time.Time
	By     string
	Body   []byte
}

// What can become of a reading.
const (
	RunDone   = "done"
	RunSame   = "same"   // nothing is other than it was
	RunHeld   = "held"   // somebody has to look at it before it counts
	RunFailed = "failed" // it could not be read, or may not be done
)

// Brought is what changes, with a revision or without one, of what a source is known to have brought.
type Brought struct {
	Origins      []Origin       // in place of what is known of those things
	Lost         []Origin       // that stand for nothing any more
	Joined, Left []OriginMember // memberships
}

// Empty tells whether nothing changes.
func (b *Brought) Empty() bool {
	return b == nil || len(b.Origins)+len(b.Lost)+len(b.Joined)+len(b.Left) == 0
}

// writeOrigins writes origins, in the place of those of the same things.
func writeOrigins(tx *gorm.DB, list []Origin) error {
	return insert(tx, "INSERT INTO origins (source, type, outside, record, place, gone, suspended, made, told) VALUES ",
		" ON CONFLICT (source, type, outside) DO UPDATE SET record = excluded.record, place = excluded.place, gone = excluded.gone, suspended = excluded.suspended, made = excluded.made, told = excluded.told",
		list, func(int) {}, func(o *Origin) []any {
			told := o.Told
			if told == nil {
				told = []byte{} // the column is never null
			}
			return []any{o.Source, o.Type, o.Outside, o.Record, o.Place, o.Gone, o.Suspended, o.Made, told}
		})
}

// write notes what was brought.
func (b *Brought) write(tx *gorm.DB) error {
	if b.Empty() {
		return nil
	}
	again := tx.Clauses(clause.OnConflict{UpdateAll: true})
	if err := writeOrigins(tx, b.Origins); err != nil {
		return err
	}
	if len(b.Joined) > 0 {
		if err := again.CreateInBatches(b.Joined, rowsAtOnce).Error; err != nil {
			return err
		}
	}
	for _, o := range b.Lost {
		if err := tx.Delete(&Origin{}, "source = ? AND type = ? AND outside = ?", o.Source, o.Type, o.Outside).Error; err != nil {
			return err
		}
	}
	for _, m := range b.Left {
		if err := tx.Delete(&OriginMember{}, "source = ? AND group_id = ? AND user_id = ?", m.Source, m.GroupID, m.UserID).Error; err != nil {
			return err
		}
	}
	return nil
}

// KeepBrought notes what a source is known to have brought, where no revision comes of it.
func (s *Store) KeepBrought(ctx context.Context, b *Brought) error {
	return s.small(ctx, b.write)
}

// AddSource keeps a new source. The error is gorm.ErrDuplicatedKey where its id is taken.
func (s *Store) AddSource(ctx context.Context, src Source) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Create(&src).Error })
}

// KeepSource keeps what became of a source; false where something was done to it since the version before.
func (s *Store) KeepSource(ctx context.Context, src Source) (kept bool, err error) {
	err = s.small(ctx, func(tx *gorm.DB) error {
		done := tx.Model(&Source{}).Where("id = ? AND version = ?", src.ID, src.Version-1).Select("*").Updates(&src)
		kept = done.RowsAffected == 1
		return done.Error
	})
	return kept, err
}

// DropSource takes a source away, with what is known of it: what it has brought stays, and is like any other record.
func (s *Store) DropSource(ctx context.Context, id string) error {
	return s.small(ctx, func(tx *gorm.DB) error { return tx.Delete(&Source{}, "id = ?", id).Error })
}

// Sources lists all sources, by id.
func (s *Store) Sources(ctx context.Context) (out []Source, err error) {
	return out, s.reader.WithContext(ctx).Order("id").Find(&out).Error
}

// Origins lists what all sources are known to have brought.
func (s *Store) Origins(ctx context.Context) (things []Origin, members []OriginMember, err error) {
	if err := s.reader.WithContext(ctx).Find(&things).Error; err != nil {
		return nil, nil, err
	}
	return things, members, s.reader.WithContext(ctx).Find(&members).Error
}

// KeepContent keeps what was brought to a source, in place of what was before.
func (s *Store) KeepContent(ctx context.Context, c SourceContent) error {
	return s.small(ctx, func(tx *gorm.DB) error {
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).Create(&c).Error
	})
}

// Content is what was brought to a source, or [ErrNotFound].
func (s *Store) Content(ctx context.Context, source string) (c SourceContent, err error) {
	return c, found(s.reader.WithContext(ctx).Take(&c, "source = ?", source).Error)
}

// ContentAt is when that was brought which a source has; nil: nothing was.
func (s *Store) ContentAt(ctx context.Context, source string) (*time.Time, error) {
	var c SourceContent
	err := s.reader.WithContext(ctx).Select("at").Limit(1).Find(&c, "source = ?", source).Error
	if err != nil || c.At.IsZero() {
		return nil, err
	}
	return &c.At, nil
}

// mostRuns is how many readings of a source are remembered.
const mostRuns = 200

// AddRun keeps what became of a reading, as the next of its source, whose number it is given, and when the source is read next.
func (s *Store) AddRun(ctx context.Context, run *SourceRun, next *time.Time) error {
	return s.small(ctx, func(tx *gorm.DB) error {
		var last SourceRun
		if err := tx.Order("number DESC").Limit(1).Find(&last, "source = ?", run.Source).Error; err != nil {
			return err
		}
		run.Number = last.Number + 1
		if err := tx.Create(run).Error; err != nil {
			return err
		}
		set := map[string]any{"next_run": next}
		if run.Outcome == RunDone || run.Outcome == RunSame {
			set["good_at"] = run.At
		}
		if err := tx.Model(&Source{}).Where("id = ?", run.Source).Updates(set).Error; err != nil {
			return err
		}
		return tx.Delete(&SourceRun{}, "source = ? AND number <= ? AND revision = 0", run.Source, int64(run.Number)-mostRuns).Error
	})
}

// Runs lists the last readings of a source, newest first.
func (s *Store) Runs(ctx context.Context, source string, limit int) (out []SourceRun, err error) {
	return out, s.reader.WithContext(ctx).Where("source = ?", source).Order("number DESC").Limit(limit).Find(&out).Error
}

// RunOf finds the reading that made a revision, or [ErrNotFound].
func (s *Store) RunOf(ctx context.Context, revision uint64) (run SourceRun, err error) {
	return run, found(s.reader.WithContext(ctx).Take(&run, "revision = ?", revision).Error)
}
