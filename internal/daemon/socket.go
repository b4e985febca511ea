package daemon

import (
	"context"
	"errors"
	"fmt"
	"net"
	"time"

	"github.com/coreos/go-systemd/v22/activation"
	"github.com/coreos/go-systemd/v22/daemon"

	"sentier/internal/store"
)

// Passed is the socket that whoever started this process holds open and has passed to it, by the convention of sd_listen_fds(3); nil where
// there is none. Connections wait in such a socket while one process ends and the next one begins, and none is refused.
func Passed() (net.Listener, error) {
	all, err := activation.Listeners()
	if err != nil || len(all) == 0 {
		return nil, err
	}
	if len(all) > 1 || all[0] == nil || all[0].Addr().Network() != "tcp" {
		return nil, errors.New("one socket is expected, and it listens for streams over TCP: write one ListenStream= in the unit of the socket")
	}
	return all[0], nil
}

const (
	handOverTime  = 2 * time.Minute // that a process with a passed socket waits for the one before it to end
	handOverSteps = 20 * time.Millisecond
)

// openStore opens the folder; where the socket was passed, it waits for the process that has the folder to end.
func openStore(ctx context.Context, o Options) (*store.Store, error) {
	st, err := store.Open(o.Dir, true)
	if o.Socket == nil || !errors.Is(err, store.ErrInUse) {
		return st, err
	}
	o.Log.Info("another process answers from the folder: this one answers when that one has ended", "data", o.Dir)
	ctx, cancel := context.WithTimeout(ctx, handOverTime)
	defer cancel()
	for errors.Is(err, store.ErrInUse) {
		select {
		case <-ctx.Done():
			return nil, err
		case <-time.After(handOverSteps):
		}
		st, err = store.Open(o.Dir, true)
	}
	return st, err
}

const ready, stopping = daemon.SdNotifyReady, daemon.SdNotifyStopping

// tell tells whoever started this process how it stands, by the convention of sd_notify(3).
func (o *Options) tell(state string) {
	if _, err := daemon.SdNotify(false, state); err != nil {
		o.Log.Warn("whoever started the service could not be told how it stands", "error", fmt.Errorf("%s: %w", state, err))
	}
}
