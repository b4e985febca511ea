package replica

import (
	"context"
	"errors"
	"io"
)

// Feed is where the log comes from, for whoever follows it. What it says of who has written something is not taken: all of it is signed.
type Feed interface {
	// Follow gives the entries after a place in the log, and those that come, until ctx ends or visit fails. It ends without an error where it is to be called
	// again, and with [ErrGone] where the log does not go back so far.
	Follow(ctx context.Context, after uint64, visit func(text []byte) error) error
	// Beats gives the beats that come from now on, until ctx ends.
	Beats(ctx context.Context, heard func(text []byte)) error
	// Objects lists the names of the objects that begin with a text, in their order.
	Objects(ctx context.Context, prefix string) ([]string, error)
	// Get gives an object.
	Get(ctx context.Context, name string) (io.ReadCloser, error)
}

// Bus carries the log, and what is too large for it, for the machine that writes as well.
type Bus interface {
	Feed
	// Tail is the last entry of the log and its place on the bus; nothing and 0 where the log is empty.
	Tail(ctx context.Context) (text []byte, place uint64, err error)
	// Publish adds an entry after the one at a place, and gives its place once it cannot be lost any more. The error is [ErrMoved] where another entry
	// stands there already; with any other it is not known whether the entry was added. The id is of this entry alone: with it the same can be asked again.
	Publish(ctx context.Context, after uint64, id string, seq uint64, text []byte) (place uint64, err error)
	// Each gives the entries after a place in the log (Seq, not that of the bus) that are there now.
	Each(ctx context.Context, after uint64, visit func(text []byte) error) error
	// Put keeps an object under a name.
	Put(ctx context.Context, name string, from io.Reader) error
	// Drop lets objects go.
	Drop(ctx context.Context, names ...string) error
	// Forget lets the entries before a place in the log go.
	Forget(ctx context.Context, before uint64) error
	// Beat tells everybody who listens.
	Beat(text []byte) error
}

// ErrMoved is that the log goes on otherwise than was thought: another machine writes.
var ErrMoved = errors.New("another entry stands in the log there already")

// ErrNone is that there is no object of a name.
var ErrNone = errors.New("there is no such object")
