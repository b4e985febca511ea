package service

import (
	"context"
	"errors"
	"sync"

	"sentier/internal/store"
	"sentier/internal/wire"
)

// progress knows the requests with an Idempotency-Key that are running.
type progress struct {
	mu      sync.Mutex
	running map[string]wire.Progress // by user and key
}

func progressKey(c Caller, key string) string { return string(c.User) + " " + key }

// begin notes a request until the function that it gives is called.
func (p *progress) begin(c Caller, key string) (end func()) {
	if key == "" {
		return func() {}
	}
	p.wrote(c, key, 0, 0)
	return func() {
		p.mu.Lock()
		defer p.mu.Unlock()
		delete(p.running, progressKey(c, key))
	}
}

func (p *progress) wrote(c Caller, key string, n, of int) {
	if key == "" {
		return
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.running == nil {
		p.running = map[string]wire.Progress{}
	}
	p.running[progressKey(c, key)] = wire.Progress{State: "running", Done: n, Of: of}
}

// Progress tells how far the caller's request with a key is; of one that has ended, whether it changed anything. Whoever lost
// the connection in the middle learns by it what became of the request.
func (s *Service) Progress(ctx context.Context, c Caller, key string) (wire.Progress, error) {
	if err := s.Permit(s.State(), c, Write, ""); err != nil {
		return wire.Progress{}, err
	}
	s.progress.mu.Lock()
	now, running := s.progress.running[progressKey(c, key)]
	s.progress.mu.Unlock()
	if running {
		return now, nil
	}
	r, err := s.borders.History.RevisionOf(ctx, string(c.User), key)
	if errors.Is(err, store.ErrNotFound) {
		return wire.Progress{State: "nothing"}, nil
	}
	return wire.Progress{State: "done", Revision: r.Number}, err
}
