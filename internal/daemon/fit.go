package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"path/filepath"
	"sync/atomic"
	"time"

	"sentier/internal/audit"
	"sentier/internal/store"
)

// fits tells whether a database and the audit log beside it are of one folder and of one moment: each keeps the head of the other.
func fits(ctx context.Context, st *store.Store, record *audit.Record) error {
	text, err := record.BesideKept(ctx)
	if err != nil {
		return err
	}
	var kept *store.Head
	if text != nil {
		if err := json.Unmarshal(text, &kept); err != nil {
			return fmt.Errorf("%w (what the audit log knows of the database cannot be read)", store.ErrDamaged)
		}
	}
	if err := st.Fits(ctx, kept); err != nil {
		return err
	}
	known, err := st.RecordKept(ctx)
	if err != nil || known == nil {
		return err
	}
	return record.Fits(ctx, known.Seq, known.Chain)
}

// bind has each of the two files keep the head of the other from now on: only what is on the disk.
func bind(st *store.Store, record *audit.Record, log *slog.Logger) {
	st.Witness(func() store.RecordHead {
		seq, chain := record.Head()
		return store.RecordHead{Seq: seq, Chain: chain}
	})
	record.Beside(func() []byte {
		head, err := st.HeadNow(context.Background())
		if err != nil {
			log.Warn("the audit log could not keep how far the database goes", "error", err)
			return nil
		}
		text, err := json.Marshal(head)
		if err != nil {
			return nil // numbers and bytes can be written
		}
		return text
	})
}

// Accept makes what lies in a folder the truth, for whoever holds the files and has said so: in the audit log stands what did not fit. No service may run on it. It
// tells what did not fit; nothing: everything did, and nothing was changed.
func Accept(ctx context.Context, dir, reason string, at time.Time) (wrong string, err error) {
	if wrong, err = misfit(ctx, dir, at); err != nil || wrong == "" || reason == "" {
		return wrong, err
	}
	st, err := store.OpenToAccept(dir)
	if err != nil {
		return wrong, err
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	key, err := audit.LoadKey(filepath.Join(dir, audit.KeyName))
	if err != nil {
		return wrong, err
	}
	log := slog.New(slog.DiscardHandler)
	record, err := audit.Open(ctx, audit.Options{Dir: dir, Clock: func() time.Time { return at }, Log: log, Room: st.ReleaseReserve, Key: key, Accept: true})
	if err != nil {
		return wrong, err
	}
	defer func() { err = errors.Join(err, record.Close()) }()
	last, err := st.LastRevision(ctx)
	if err != nil {
		return wrong, err
	}
	more, err := json.Marshal(map[string]any{"what": "the files were accepted as they are by whoever holds them", "wrong": wrong, "reason": reason})
	if err != nil {
		return wrong, err
	}
	if err := record.Add(audit.Entry{At: at, Kind: audit.Service, Outcome: audit.Reset, Via: "recovery", Revision: last, More: more}); err != nil {
		return wrong, err
	}
	if err := record.AcceptMark(); err != nil {
		return wrong, err
	}
	seq, chain := record.Head()
	if err := st.Accept(ctx, store.RecordHead{Seq: seq, Chain: chain}, at); err != nil {
		return wrong, err
	}
	bind(st, record, log) // so that closing the audit log keeps the head of what was accepted
	return wrong, nil
}

// misfit tells what keeps a service from starting on a folder; empty: nothing does.
func misfit(ctx context.Context, dir string, at time.Time) (wrong string, err error) {
	st, err := store.Open(dir, true)
	if err != nil {
		if errors.Is(err, store.ErrInUse) {
			return "", err
		}
		return err.Error(), nil
	}
	defer func() { err = errors.Join(err, st.Close()) }()
	record, err := openRecord(ctx, st, Options{Dir: dir, Clock: func() time.Time { return at }, Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err.Error(), nil
	}
	defer func() { err = errors.Join(err, record.Close()) }()
	if err := fits(ctx, st, record); err != nil {
		return err.Error(), nil
	}
	seen, err := seenBy(ctx, st, record)
	if err != nil {
		return err.Error(), nil
	}
	if behind := seen.At.Sub(at); behind > clockMayLag {
		return fmt.Sprintf("the clock is %s behind the greatest instant that was seen here, %s", behind.Round(time.Second), seen.At.UTC().Format(time.RFC3339)), nil
	}
	return "", nil
}

// seenBy is the greatest instant that was seen, by both files.
func seenBy(ctx context.Context, st *store.Store, record *audit.Record) (store.Seen, error) {
	seen, err := st.Seen(ctx)
	if err != nil {
		return seen, err
	}
	last, err := record.Seen(ctx, seen.Entry)
	if last.After(seen.At) {
		seen.At = last
	}
	return seen, err
}

// clockMayLag is how far a clock may be behind the greatest instant that was seen before it is told: clocks are set a little back and forth.
const clockMayLag = time.Minute

// steadyClock is a clock that does not go back: where the machine's is behind the greatest instant that was seen, ends hold by that.
type steadyClock struct {
	base   func() time.Time
	seen   atomic.Int64 // nanoseconds since 1970
	behind atomic.Int64 // by which it is set forward; 0: it is not
}

// Now is the later of what the machine's clock says and what was seen, going on from there.
func (c *steadyClock) Now() time.Time {
	now := c.base()
	at, seen := now.UnixNano(), c.seen.Load()
	if lag := seen - at; lag > int64(clockMayLag) {
		if lag > c.behind.Load() {
			c.behind.Store(lag)
		}
		return now.Add(time.Duration(c.behind.Load()))
	}
	if c.behind.Load() != 0 {
		c.behind.Store(0)
	}
	if at-seen > int64(time.Second) {
		c.seen.Store(at)
	}
	return now
}

// Behind is how far the machine's clock is behind what was seen; 0: it is not.
func (c *steadyClock) Behind() time.Duration {
	c.Now()
	return time.Duration(c.behind.Load())
}

// keepSeen notes now and then how far the clock has come, and tells of one that is behind.
func (d *Daemon) keepSeen(ctx context.Context, seen store.Seen) {
	told := false
	for {
		if behind := d.clock.Behind(); behind > 0 && !told {
			told = true
			d.options.Log.Error("the clock of this machine is behind: ends hold by the greatest instant that was seen here", "behind", behind.Round(time.Second), "seen", time.Unix(0, d.clock.seen.Load()).UTC())
		} else if behind == 0 {
			told = false
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(seenEvery):
		}
		seen.At = time.Unix(0, d.clock.seen.Load()).UTC()
		if err := d.store.NoteSeen(ctx, seen); err != nil && ctx.Err() == nil {
			d.options.Log.Debug("how far the clock has come could not be noted", "error", err)
		}
	}
}

// seenEvery is how often it is noted how far the clock has come.
const seenEvery = time.Minute
