package audit

import (
	"context"
	"database/sql"
	"encoding/json"
	"io"
	"strconv"
	"time"
)

// Sink takes entries that leave the house, in their order.
type Sink interface {
	// Send hands entries over. They may come again, where it cannot be known whether they have arrived.
	Send(ctx context.Context, entries []Entry) error
	// Lost tells whether what was sent a moment ago may not have arrived.
	Lost() bool
	// Settles is for how long after it was sent that can come out.
	Settles() time.Duration
	// Close ends it.
	Close() error
}

// Times and bounds of forwarding.
const (
	forwardOnce    = 500 // entries
	forwardTick    = time.Second
	forwardAgain   = time.Second // after a sink has failed, doubled each time
	forwardLongest = time.Minute
)

// Forward hands all entries over to a sink, those of before the last that it has first, until ctx ends: every one at least once. name is by
// which it is known how far the sink has them. A sink that is new has those from now on.
func (r *Record) Forward(ctx context.Context, name string, sink Sink) error {
	f := &forwarding{Record: r, name: name, sink: sink}
	text, err := fact(r.reader.WithContext(ctx), factSent+name)
	if err != nil {
		return err
	}
	if f.settled, err = strconv.ParseUint(text, 10, 64); err != nil {
		f.settled = r.Last()
	}
	f.sent, f.kept = f.settled, f.settled
	if text == "" {
		if err := f.keep(f.settled); err != nil {
			return err
		}
	}
	for pause := forwardAgain; ctx.Err() == nil; {
		next := r.told.Wait()
		more, err := f.step(ctx)
		switch {
		case err != nil && ctx.Err() == nil:
			r.Log.Warn("the record could not be sent on, and is tried again", "to", name, "in", pause, "error", err)
			sleep(ctx, pause)
			pause = min(2*pause, forwardLongest)
			continue
		case err == nil:
			pause = forwardAgain
		}
		if more {
			continue
		}
		select {
		case <-ctx.Done():
		case <-next:
		case <-time.After(forwardTick):
		}
	}
	return sink.Close()
}

// Sent is the last entry that a sink is known to have; 0: it is new.
func (r *Record) Sent(name string) (uint64, error) {
	text, err := fact(r.reader, factSent+name)
	if err != nil || text == "" {
		return 0, err
	}
	return strconv.ParseUint(text, 10, 64)
}

func sleep(ctx context.Context, d time.Duration) {
	select {
	case <-ctx.Done():
	case <-time.After(d):
	}
}

// forwarding is how far a sink has the record.
type forwarding struct {
	*Record
	name    string
	sink    Sink
	sent    uint64 // the last entry that was handed over
	settled uint64 // the last of which it is known that it has arrived
	kept    uint64 // settled, as it was kept
	under   []underWay
}

type underWay struct {
	entry uint64
	at    time.Time
}

// step hands over what there is, as far as goes at once; more tells whether there is more.
func (f *forwarding) step(ctx context.Context) (more bool, err error) {
	if f.sink.Lost() {
		f.sent, f.under = f.settled, nil
	}
	now := time.Now()
	for len(f.under) > 0 && now.Sub(f.under[0].at) >= f.sink.Settles() {
		f.settled, f.under = f.under[0].entry, f.under[1:]
	}
	if f.settled != f.kept {
		if err := f.keep(f.settled); err != nil {
			return false, err
		}
	}
	var list []Entry
	err = blocks(f.reader.WithContext(ctx), f.sent, f.sent+1+forwardOnce, func(first uint64, body string) error {
		return ignoreLine(readBlock(first, body, func(e *Entry) error {
			if e.Seq > f.sent {
				list = append(list, *e)
			}
			return nil
		}))
	})
	if err != nil || len(list) == 0 {
		return false, err
	}
	if err := f.sink.Send(ctx, list); err != nil {
		return false, err
	}
	f.sent = list[len(list)-1].Seq
	f.under = append(f.under, underWay{f.sent, now})
	return len(list) >= forwardOnce, nil
}

func (f *forwarding) keep(entry uint64) error {
	f.kept = entry
	return f.with(nil, func(tx *sql.Tx) error { return setFact(tx, factSent+f.name, strconv.FormatUint(entry, 10)) })
}

// Lines is a sink that writes entries as lines of JSON.
type Lines struct{ To io.Writer }

// Send writes entries, one a line.
func (l Lines) Send(_ context.Context, entries []Entry) error {
	lines := json.NewEncoder(l.To)
	lines.SetEscapeHTML(false)
	for _, e := range entries {
		if err := lines.Encode(e); err != nil {
			return err
		}
	}
	return nil
}

// Lost tells that nothing is lost that was written.
func (Lines) Lost() bool { return false }

// Settles tells that what is written is there.
func (Lines) Settles() time.Duration { return 0 }

// Close leaves the writer to whoever has opened it.
func (Lines) Close() error { return nil }
