// Package bus carries the log of revisions between machines by NATS with JetStream: the log as a stream, what is too large for it in an object store, and who
// is there in a bucket of keys. It takes nobody's word: what has to be true is signed, and others check that.
package bus

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/nats-io/nats.go/jetstream"

	"sentier/internal/replica"
)

// What is on the servers.
const (
	logStream     = "SENTIER_LOG"
	logSubject    = "sentier.log"
	beatSubject   = "sentier.beat"
	objectsBucket = "SENTIER"
	machineBucket = "SENTIER_MACHINES"

	seqHeader = "Sentier-Seq" // place of an entry in the log, so that those that are there already need not be looked at
)

// Times.
const (
	askTime     = 3 * time.Second
	publishTime = 2 * time.Second // after which an entry is sent once more: what was sent while they elect a leader is lost
	connectTime = 5 * time.Second
	reconnect   = 500 * time.Millisecond
	// A server behind a cable that was pulled answers nothing, and says no farewell: another is gone to after so many that it has not answered.
	pingEvery    = 2 * time.Second
	pingsLost    = 2
	repeatWindow = 2 * time.Minute // in which the same entry, published twice, is added once
)

// The codes with which a server refuses an entry after another than was said.
const (
	wrongLastSequence      jetstream.ErrorCode = 10071
	wrongLastSequenceAgain jetstream.ErrorCode = 10164
)

// Options say how the servers are reached.
type Options struct {
	URL         string // of one or several servers, with commas between
	Credentials string // file of a user's credentials; empty: none
	CA          string // file of the authorities that vouch for the servers, PEM; empty: those of the machine
	Certificate string // file of the certificate by which this machine is known, PEM; empty: none
	Key         string // file of its key
	Name        string // of this machine
	Replicas    int    // on how many servers the log is kept; 0: 1
	Log         *slog.Logger
}

// Bus is a connection to the servers. It goes on by itself when it was lost.
type Bus struct {
	conn     *nats.Conn
	js       jetstream.JetStream
	options  Options
	log      *slog.Logger
	mu       sync.Mutex
	stream   jetstream.Stream // nil: it was not looked for yet
	objects  jetstream.ObjectStore
	machines jetstream.KeyValue
	lease    jetstream.KeyValue
}

// Connect connects to the servers, or goes on trying to beside what is done: a machine that has its own disk needs none to begin.
func Connect(o Options) (*Bus, error) {
	b := &Bus{options: o, log: o.Log}
	list := []nats.Option{
		nats.Name("sentier " + o.Name), nats.Timeout(connectTime), nats.MaxReconnects(-1), nats.ReconnectWait(reconnect), nats.RetryOnFailedConnect(true),
		nats.DontRandomize(), // the nearest is named first
		nats.PingInterval(pingEvery), nats.MaxPingsOutstanding(pingsLost),
		nats.DisconnectErrHandler(func(_ *nats.Conn, err error) {
			if err != nil {
				b.log.Warn("the line to the servers of the log is cut", "error", err)
			}
		}),
		nats.ReconnectHandler(func(c *nats.Conn) {
			b.log.Info("the line to the servers of the log is there again", "server", c.ConnectedUrlRedacted())
		}),
		nats.ErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
			b.log.Warn("the servers of the log refuse something", "error", err)
		}),
	}
	if o.Credentials != "" {
		list = append(list, nats.UserCredentials(o.Credentials))
	}
	if o.CA != "" {
		list = append(list, nats.RootCAs(o.CA))
	}
	if o.Certificate != "" {
		list = append(list, nats.ClientCert(o.Certificate, o.Key))
	}
	var err error
	if b.conn, err = nats.Connect(o.URL, list...); err != nil {
		return nil, fmt.Errorf("reach the servers of the log at %s: %w", redacted(o.URL), err)
	}
	if b.js, err = jetstream.New(b.conn, jetstream.WithDefaultTimeout(askTime)); err != nil {
		b.conn.Close()
		return nil, fmt.Errorf("reach the servers of the log: %w", err)
	}
	return b, nil
}

// redacted is an address without what it says of who one is.
func redacted(urls string) string {
	parts := strings.Split(urls, ",")
	for i, part := range parts {
		if scheme, rest, ok := strings.Cut(part, "://"); ok {
			parts[i] = scheme + "://" + rest[strings.LastIndexByte(rest, '@')+1:]
		}
	}
	return strings.Join(parts, ",")
}

// Close ends the connection.
func (b *Bus) Close() { b.conn.Close() }

// Prepare makes what the log needs on the servers, where it is missing. It is for the machine that writes.
func (b *Bus) Prepare(ctx context.Context) error {
	replicas := max(1, b.options.Replicas)
	steps := []struct {
		stream string
		make   func(ctx context.Context) error
	}{
		{logStream, func(ctx context.Context) error {
			_, err := b.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{
				Name: logStream, Subjects: []string{logSubject}, Storage: jetstream.FileStorage, Replicas: replicas, AllowDirect: true, Duplicates: repeatWindow,
				Description: "the log of revisions", DenyDelete: true, MaxConsumers: -1,
			})
			return err
		}},
		{"OBJ_" + objectsBucket, func(ctx context.Context) error {
			_, err := b.js.CreateOrUpdateObjectStore(ctx, jetstream.ObjectStoreConfig{Bucket: objectsBucket, Storage: jetstream.FileStorage, Replicas: replicas, Description: "snapshots, and large changes"})
			return err
		}},
		{"KV_" + machineBucket, func(ctx context.Context) error {
			_, err := b.js.CreateOrUpdateKeyValue(ctx, jetstream.KeyValueConfig{Bucket: machineBucket, Storage: jetstream.FileStorage, Replicas: replicas, History: 1, Description: "which machines there are"})
			return err
		}},
		{recordStream, func(ctx context.Context) error {
			_, err := b.js.CreateOrUpdateStream(ctx, jetstream.StreamConfig{Name: recordStream, Subjects: []string{recordSubject + ".*"}, Storage: jetstream.FileStorage, Replicas: replicas, MaxAge: recordsKept, Duplicates: repeatWindow, Description: "what machines have recorded, for those that may write"})
			return err
		}},
		{"KV_" + leaseBucket, func(ctx context.Context) error {
			_, err := b.js.CreateOrUpdateKeyValue(ctx, jetstream.KeyValueConfig{
				Bucket: leaseBucket, Storage: jetstream.FileStorage, Replicas: replicas, History: 1, LimitMarkerTTL: time.Minute, Description: "which machine writes",
			})
			return err
		}},
	}
	for _, step := range steps { // each within a time of its own: what is asked while the servers elect a leader is never answered
		limited, cancel := context.WithTimeout(ctx, askTime)
		var err error
		if !b.there(limited, step.stream, replicas) { // several that make the same at once are in each other's way
			err = step.make(limited)
		}
		cancel()
		if err != nil {
			return fmt.Errorf("make the log of revisions on the servers: %w", err)
		}
	}
	return nil
}

// there tells whether a stream is as it should be.
func (b *Bus) there(ctx context.Context, name string, replicas int) bool {
	stream, err := b.js.Stream(ctx, name)
	return err == nil && stream.CachedInfo().Config.Replicas == replicas
}

// logOf finds the stream of the log.
func (b *Bus) logOf(ctx context.Context) (jetstream.Stream, error) {
	return foundOnce(b, &b.stream, func() (jetstream.Stream, error) { return b.js.Stream(ctx, logStream) })
}

func (b *Bus) objectsOf(ctx context.Context) (jetstream.ObjectStore, error) {
	return foundOnce(b, &b.objects, func() (jetstream.ObjectStore, error) { return b.js.ObjectStore(ctx, objectsBucket) })
}

// foundOnce finds something on the servers, and remembers it.
func foundOnce[T comparable](b *Bus, kept *T, find func() (T, error)) (T, error) {
	b.mu.Lock()
	defer b.mu.Unlock()
	var none T
	if *kept != none {
		return *kept, nil
	}
	found, err := find()
	if err == nil {
		*kept = found
	}
	return found, err
}

// Tail is the last entry of the log; see [replica.Bus].
func (b *Bus) Tail(ctx context.Context) ([]byte, uint64, error) {
	stream, err := b.logOf(ctx)
	if err != nil {
		return nil, 0, err
	}
	info, err := stream.Info(ctx)
	if err != nil {
		return nil, 0, err
	}
	if info.State.Msgs == 0 {
		return nil, info.State.LastSeq, nil
	}
	last, err := stream.GetLastMsgForSubject(ctx, logSubject)
	if err != nil {
		return nil, 0, err
	}
	return last.Data, last.Sequence, nil
}

// Publish adds an entry; see [replica.Bus].
func (b *Bus) Publish(ctx context.Context, after uint64, id string, seq uint64, text []byte) (uint64, error) {
	msg := &nats.Msg{Subject: logSubject, Data: text, Header: nats.Header{seqHeader: []string{strconv.FormatUint(seq, 10)}}}
	ctx, cancel := context.WithTimeout(ctx, publishTime)
	defer cancel()
	ack, err := b.js.PublishMsg(ctx, msg, jetstream.WithExpectStream(logStream), jetstream.WithExpectLastSequence(after), jetstream.WithMsgID(id), jetstream.WithRetryAttempts(0))
	switch {
	case wrongSequence(err):
		return 0, replica.ErrMoved
	case err != nil:
		return 0, fmt.Errorf("add to the log of revisions: %w", err)
	}
	return ack.Sequence, nil
}

// errEnd ends the reading of a stream that is read up to a place.
var errEnd = errors.New("the end is reached")

// Each gives the entries that are there now; see [replica.Bus].
func (b *Bus) Each(ctx context.Context, after uint64, visit func(text []byte) error) error {
	stream, err := b.logOf(ctx)
	if err != nil {
		return err
	}
	info, err := stream.Info(ctx)
	if err != nil || info.State.Msgs == 0 {
		return err
	}
	if few, all, err := lastFew(ctx, stream, info.State, after); err != nil || all {
		for _, text := range slices.Backward(few) {
			if err == nil {
				err = visit(text)
			}
		}
		return err
	}
	err = b.read(ctx, after, func(place uint64, text []byte) error {
		if text != nil {
			if err := visit(text); err != nil {
				return err
			}
		}
		if place >= info.State.LastSeq {
			return errEnd
		}
		return nil
	})
	return errIfNot(err, errEnd)
}

// mostFew is how many entries are asked for one by one.
const mostFew = 50

// lastFew gives the entries after a place in the log, the last one first, where they are few. Each is asked for by itself: a consumer would have to be made,
// which cannot be for a while after a server is gone that the others have not missed yet.
func lastFew(ctx context.Context, stream jetstream.Stream, now jetstream.StreamState, after uint64) (few [][]byte, all bool, err error) {
	for place := now.LastSeq; place >= now.FirstSeq; place-- {
		msg, err := stream.GetMsg(ctx, place)
		if err != nil { // also where it is not found, by a server that is behind
			return nil, false, err
		}
		if seq, err := strconv.ParseUint(msg.Header.Get(seqHeader), 10, 64); err == nil && seq <= after {
			return few, true, nil
		}
		if len(few) == mostFew {
			return nil, false, nil
		}
		few = append(few, msg.Data)
	}
	return few, true, nil
}

// Follow gives entries as they come; see [replica.Bus].
func (b *Bus) Follow(ctx context.Context, after uint64, visit func(text []byte) error) error {
	return b.read(ctx, after, func(_ uint64, text []byte) error {
		if text == nil {
			return nil
		}
		return visit(text)
	})
}

// arrival is what comes of the stream.
type arrival struct {
	msg jetstream.Msg
	err error
}

// deliver sends what comes of the stream, until ctx ends or it fails. It may wait for longer than whoever reads wants to: for a consumer that was placed on a
// server that is gone, and for answers that were lost while the servers elected a leader.
func deliver(ctx context.Context, stream jetstream.Stream, to chan<- arrival) {
	send := func(a arrival) {
		select {
		case to <- a:
		case <-ctx.Done():
		}
	}
	consumer, err := stream.OrderedConsumer(ctx, jetstream.OrderedConsumerConfig{DeliverPolicy: jetstream.DeliverAllPolicy, MaxResetAttempts: 1})
	if err != nil {
		send(arrival{err: err})
		return
	}
	messages, err := consumer.Messages()
	if err != nil {
		send(arrival{err: err})
		return
	}
	stop := context.AfterFunc(ctx, messages.Stop)
	defer stop()
	defer messages.Stop()
	for err == nil && ctx.Err() == nil {
		var msg jetstream.Msg
		msg, err = messages.Next()
		send(arrival{msg, err})
	}
}

// Whoever reads looks now and then whether the servers have more than came: then another consumer is made.
const (
	lookEvery = 2 * time.Second
	lookTime  = time.Second
)

var errStalled = errors.New("the servers of the log have more than they send")

// read reads the stream in order, with its places; those of the log up to after come without their text.
func (b *Bus) read(ctx context.Context, after uint64, visit func(place uint64, text []byte) error) error {
	stream, err := b.logOf(ctx)
	if err != nil {
		return err
	}
	ctx, end := context.WithCancel(ctx)
	defer end()
	came := make(chan arrival)
	go deliver(ctx, stream, came)
	look := time.NewTicker(lookEvery)
	defer look.Stop()
	place, waits := uint64(0), 0 // the last that came, and for how many looks there is more
	for {
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-look.C:
			if hasMore(ctx, stream, place) {
				waits++
			} else {
				waits = 0
			}
			if waits > 1 {
				return errStalled
			}
		case a := <-came:
			if a.err != nil {
				return errors.Join(ctx.Err(), a.err)
			}
			meta, err := a.msg.Metadata()
			if err != nil {
				return err
			}
			place, waits = meta.Sequence.Stream, 0
			text := a.msg.Data()
			if seq, err := strconv.ParseUint(a.msg.Headers().Get(seqHeader), 10, 64); err == nil && seq <= after {
				text = nil
			}
			if err := visit(place, text); err != nil {
				return err
			}
		}
	}
}

// hasMore tells whether the stream has something after a place. It is false where that is not known.
func hasMore(ctx context.Context, stream jetstream.Stream, place uint64) bool {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	info, err := stream.Info(ctx)
	return err == nil && info.State.Msgs > 0 && info.State.LastSeq > place
}

// Put keeps an object; see [replica.Bus].
func (b *Bus) Put(ctx context.Context, name string, from io.Reader) error {
	objects, err := b.objectsOf(ctx)
	if err == nil {
		_, err = objects.Put(ctx, jetstream.ObjectMeta{Name: name}, from)
	}
	if err != nil {
		return fmt.Errorf("keep %s on the servers: %w", name, err)
	}
	return nil
}

// getTries is how often an object is looked for that was told of: it may be on its way between servers.
const getTries = 5

// Get gives an object; see [replica.Bus].
func (b *Bus) Get(ctx context.Context, name string) (io.ReadCloser, error) {
	objects, err := b.objectsOf(ctx)
	for try := 1; err == nil; try++ {
		var object jetstream.ObjectResult
		if object, err = objects.Get(ctx, name); err == nil {
			return object, nil
		}
		if !errors.Is(err, jetstream.ErrObjectNotFound) {
			break
		}
		if try == getTries {
			return nil, fmt.Errorf("%s: %w", name, replica.ErrNone)
		}
		err = sleep(ctx, time.Duration(try)*50*time.Millisecond)
	}
	return nil, fmt.Errorf("read %s from the servers: %w", name, err)
}

func sleep(ctx context.Context, d time.Duration) error {
	select {
	case <-ctx.Done():
		return ctx.Err()
	case <-time.After(d):
		return nil
	}
}

// Objects lists objects; see [replica.Bus].
func (b *Bus) Objects(ctx context.Context, prefix string) ([]string, error) {
	objects, err := b.objectsOf(ctx)
	if err != nil {
		return nil, fmt.Errorf("list what is on the servers: %w", err)
	}
	list, err := objects.List(ctx)
	if err != nil && !errors.Is(err, jetstream.ErrNoObjectsFound) {
		return nil, fmt.Errorf("list what is on the servers: %w", err)
	}
	var out []string
	for _, o := range list {
		if strings.HasPrefix(o.Name, prefix) {
			out = append(out, o.Name)
		}
	}
	slices.Sort(out)
	return out, nil
}

// Drop lets objects go; see [replica.Bus].
func (b *Bus) Drop(ctx context.Context, names ...string) error {
	objects, err := b.objectsOf(ctx)
	for _, name := range names {
		if err == nil {
			err = objects.Delete(ctx, name)
		}
	}
	return err
}

// Forget lets entries go; see [replica.Bus].
func (b *Bus) Forget(ctx context.Context, before uint64) error {
	stream, err := b.logOf(ctx)
	if err != nil {
		return err
	}
	upTo := uint64(0)
	err = b.read(ctx, before-1, func(place uint64, text []byte) error {
		if text != nil {
			return errEnd
		}
		upTo = place
		return nil
	})
	if !errors.Is(err, errEnd) || upTo == 0 {
		return errIfNot(err, errEnd)
	}
	return stream.Purge(ctx, jetstream.WithPurgeSequence(upTo+1))
}

func errIfNot(err, expected error) error {
	if errors.Is(err, expected) {
		return nil
	}
	return err
}

// Beat tells everybody who listens; see [replica.Bus].
func (b *Bus) Beat(text []byte) error { return b.conn.Publish(beatSubject, text) }

// Beats gives the beats that come; see [replica.Bus].
func (b *Bus) Beats(ctx context.Context, heard func(text []byte)) error {
	sub, err := b.conn.Subscribe(beatSubject, func(m *nats.Msg) { heard(bytes.Clone(m.Data)) })
	if err != nil {
		return err
	}
	<-ctx.Done()
	return sub.Unsubscribe()
}
