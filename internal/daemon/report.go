package daemon

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"sync/atomic"
	"time"

	"sentier/internal/audit"
	"sentier/internal/replica"
)

// reports are where the record of a machine that follows goes. It is a sink of the record.
type reports struct {
	line   *line
	record *audit.Record
	sent   atomic.Uint64                                           // the last entry that the servers of the log have
	send   func(ctx context.Context, id string, text []byte) error // nil: to the servers of the log
}

// begins notes that all that was recorded before is about this machine alone, where nothing was handed over yet.
func (r *reports) begins() error {
	sent, err := r.record.Sent(reportsName)
	if err == nil && sent == 0 {
		sent = r.record.Last()
	}
	r.sent.Store(sent)
	return err
}

// waiting is how many entries of the record the servers of the log have not got.
func (r *reports) waiting() uint64 {
	last, sent := r.record.Last(), r.sent.Load()
	return last - min(sent, last)
}

// mostReport is how many entries go at once: so that they fit into what a server takes.
const mostReport = 200

// Send hands entries over, signed.
func (r *reports) Send(ctx context.Context, entries []audit.Entry) error {
	last := entries[len(entries)-1].Seq
	entries = slices.DeleteFunc(slices.Clone(entries), func(e audit.Entry) bool { return e.Taken() }) // which others have from where they were made
	for len(entries) > 0 {
		some := entries[:min(len(entries), mostReport)]
		entries = entries[len(some):]
		list, err := json.Marshal(some)
		if err != nil {
			return err
		}
		text, err := r.line.signer.SignReport(&replica.Report{Machine: r.line.name, Entries: list})
		if err != nil {
			return err
		}
		id := fmt.Sprintf("%s-%d-%d", r.line.name, some[0].Seq, some[len(some)-1].Seq)
		if r.send != nil {
			err = r.send(ctx, id, text)
		} else {
			err = r.line.bus.Report(ctx, r.line.name, id, text)
		}
		if err != nil {
			return err
		}
	}
	r.sent.Store(last)
	return nil
}

// Lost tells that nothing is lost that the servers have taken.
func (r *reports) Lost() bool { return false }

// Settles tells that what they have taken is there.
func (r *reports) Settles() time.Duration { return 0 }

// Close leaves the connection to whoever has opened it.
func (r *reports) Close() error { return nil }

// boundedRecord is the record of a machine that follows: no more of it waits for the servers of the log than is set.
type boundedRecord struct {
	*audit.Record
	waits func() uint64
	most  uint64
	goOn  bool // answers go on without a record, and do not wait
	lost  atomic.Uint64
}

// errWaits is that no more may wait.
var errWaits = errors.New("the record of this machine is full of what could not be handed over yet")

// Add adds entries, as long as not too many wait.
func (r *boundedRecord) Add(entries ...audit.Entry) error {
	if r.waits() < r.most {
		if lost := r.lost.Swap(0); lost > 0 {
			more, err := json.Marshal(map[string]any{"what": "decisions were answered and not recorded, as too many waited to be handed over", "times": lost})
			if err != nil {
				return err
			}
			entries = append([]audit.Entry{{At: r.Clock(), Kind: audit.Service, Outcome: audit.Refused, Via: "service", More: more}}, entries...)
		}
		return r.Record.Add(entries...)
	}
	if !r.goOn {
		return errWaits
	}
	if r.lost.Add(uint64(len(entries))) == uint64(len(entries)) {
		r.Log.Error("decisions are answered and not recorded from now on", "why", errWaits)
	}
	return nil
}
