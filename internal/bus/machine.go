package bus

import (
	"context"
	"errors"
	"fmt"
	"time"

	"github.com/nats-io/nats.go/jetstream"
)

const (
	recordStream  = "SENTIER_RECORD"
	recordSubject = "sentier.record"
	recordsKept   = 90 * 24 * time.Hour // while not every machine that takes them has them
	readerKept    = 30 * 24 * time.Hour // of what a machine has taken, that is not heard of any more
	reportWait    = time.Minute         // in which a report must be taken, or it comes again
)

func (b *Bus) machinesOf(ctx context.Context) (jetstream.KeyValue, error) {
	return foundOnce(b, &b.machines, func() (jetstream.KeyValue, error) { return b.js.KeyValue(ctx, machineBucket) })
}

// PutMachine keeps how a machine says that it stands.
func (b *Bus) PutMachine(ctx context.Context, name string, text []byte) error {
	machines, err := b.machinesOf(ctx)
	if err == nil {
		_, err = machines.Put(ctx, name, text)
	}
	if err != nil {
		return fmt.Errorf("tell how this machine stands: %w", err)
	}
	return nil
}

// Machines are what machines have said last of how they stand, by their names.
func (b *Bus) Machines(ctx context.Context) (map[string][]byte, error) {
	machines, err := b.machinesOf(ctx)
	if err != nil {
		return nil, fmt.Errorf("read which machines there are: %w", err)
	}
	out := map[string][]byte{}
	watch, err := machines.WatchAll(ctx, jetstream.IgnoreDeletes())
	if err != nil {
		return nil, fmt.Errorf("read which machines there are: %w", err)
	}
	defer watch.Stop() // the connection ends what is left of it
	for {
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("read which machines there are: %w", ctx.Err())
		case entry, ok := <-watch.Updates():
			if !ok || entry == nil { // all of them have come
				return out, nil
			}
			out[entry.Key()] = entry.Value()
		}
	}
}

// DropMachine lets go what a machine has said.
func (b *Bus) DropMachine(ctx context.Context, name string) error {
	machines, err := b.machinesOf(ctx)
	if err == nil {
		err = machines.Purge(ctx, name)
	}
	return err
}

// Report hands over a part of a machine's record. The id is of this part alone: with it the same can be handed over again.
func (b *Bus) Report(ctx context.Context, machine, id string, text []byte) error {
	_, err := b.js.Publish(ctx, recordSubject+"."+machine, text, jetstream.WithMsgID(id), jetstream.WithExpectStream(recordStream))
	if err != nil {
		return fmt.Errorf("hand the record over: %w", err)
	}
	return nil
}

// Reports gives the parts of a machine's record that the reader, a machine as well, has not taken, and those that come, until ctx ends. What visit fails for
// comes again.
func (b *Bus) Reports(ctx context.Context, machine, reader string, visit func(text []byte) error) error {
	consumer, err := b.js.CreateOrUpdateConsumer(ctx, recordStream, jetstream.ConsumerConfig{
		Durable: machine + "_for_" + reader, FilterSubject: recordSubject + "." + machine, AckPolicy: jetstream.AckExplicitPolicy, AckWait: reportWait, MaxAckPending: 1,
		InactiveThreshold: readerKept,
	})
	if err != nil {
		return fmt.Errorf("take the record of %s: %w", machine, err)
	}
	messages, err := consumer.Messages(jetstream.PullMaxMessages(1))
	if err != nil {
		return fmt.Errorf("take the record of %s: %w", machine, err)
	}
	stop := context.AfterFunc(ctx, messages.Stop)
	defer stop()
	defer messages.Stop()
	for {
		msg, err := messages.Next()
		if ctx.Err() != nil {
			return nil
		}
		if err != nil {
			return fmt.Errorf("take the record of %s: %w", machine, err)
		}
		if err = visit(msg.Data()); err == nil {
			err = msg.DoubleAck(ctx)
		} else {
			err = errors.Join(err, msg.NakWithDelay(reportAgain))
		}
		if err != nil && ctx.Err() == nil {
			b.log.Warn("a part of the record of another machine could not be taken, and comes again", "machine", machine, "error", err)
		}
	}
}

// reportAgain is after how long a part of a record comes again that could not be taken.
const reportAgain = 5 * time.Second

// TrimReports lets the parts of the records go that every machine has taken that takes them.
func (b *Bus) TrimReports(ctx context.Context) error {
	stream, err := b.js.Stream(ctx, recordStream)
	if err != nil {
		return fmt.Errorf("let go of what was taken of the records: %w", err)
	}
	taken := map[string]uint64{} // the last part that all have, by subject
	readers := stream.ListConsumers(ctx)
	for info := range readers.Info() {
		of := info.Config.FilterSubject
		if before, ok := taken[of]; !ok || info.AckFloor.Stream < before {
			taken[of] = info.AckFloor.Stream
		}
	}
	err = readers.Err()
	for subject, last := range taken {
		if err == nil && last > 0 {
			err = stream.Purge(ctx, jetstream.WithPurgeSubject(subject), jetstream.WithPurgeSequence(last+1))
		}
	}
	if err != nil {
		return fmt.Errorf("let go of what was taken of the records: %w", err)
	}
	return nil
}
