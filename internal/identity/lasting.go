package identity

import (
	"context"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/store"
)

// lasting is for how long sessions hold, and when credentials were used last.
type lasting struct {
	idle    atomic.Int64 // a session that is not used, in nanoseconds; 0: as long as any
	session atomic.Int64 // a session in all
	used    sync.Map     // by id of the credential: *atomic.Int64, nanoseconds since 1970
	kept    atomic.Int64 // uses up to here are kept
}

// Lasts sets for how long sessions hold from now on: one that nobody uses, 0 for no bound, and one in all.
func (r *Registry) Lasts(idle, session time.Duration) {
	r.lasting.idle.Store(int64(idle))
	r.lasting.session.Store(int64(session))
}

// use notes that a credential was used.
func (r *Registry) use(id string, now time.Time) {
	v, ok := r.lasting.used.Load(id)
	if !ok {
		v, _ = r.lasting.used.LoadOrStore(id, new(atomic.Int64))
	}
	v.(*atomic.Int64).Store(now.UnixNano())
}

// Used tells when a credential was used last; the zero time where that is not known.
func (r *Registry) Used(t *store.Token) time.Time {
	if v, ok := r.lasting.used.Load(t.ID); ok {
		return time.Unix(0, v.(*atomic.Int64).Load()).UTC()
	}
	if t.UsedAt != nil {
		return *t.UsedAt
	}
	return time.Time{}
}

// idle tells whether a session was not used for longer than one may be. What was before the service started counts as far as it was kept.
func (r *Registry) idle(t *store.Token, now time.Time) bool {
	most := time.Duration(r.lasting.idle.Load())
	if most == 0 || t.Kind == store.KindToken {
		return false
	}
	last := t.CreatedAt
	if used := r.Used(t); used.After(last) {
		last = used
	}
	return now.Sub(last) > most
}

// KeepUses keeps when credentials were used since it was last called.
func (r *Registry) KeepUses(ctx context.Context) error {
	since := r.lasting.kept.Load()
	used, last := map[string]time.Time{}, since
	r.lasting.used.Range(func(id, v any) bool {
		if at := v.(*atomic.Int64).Load(); at > since {
			used[id.(string)] = time.Unix(0, at)
			last = max(last, at)
		}
		return true
	})
	if len(used) == 0 {
		return nil
	}
	if err := r.Kept.UseTokens(ctx, used); err != nil {
		return err
	}
	r.lasting.kept.Store(last)
	return nil
}
