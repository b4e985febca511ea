package policy

import (
	"sync"
	"sync/atomic"

	"sentier/internal/container"
)

// nameIndex is whose a name is among the records of a type. It is made when it is first asked, and carried on from a policy to the next, so that a change
// costs what it changes and not a look at all names.
type nameIndex struct {
	mu    sync.Mutex
	made  atomic.Bool
	ids   container.Map[string, string] // by key
	twice bool                          // a key is of two records, as it may be in a policy from before names were checked: then it tells nothing
}

// of finds whose a key is; empty: nobody's. It is not sure where a key of the type is of two records.
func (x *nameIndex) of(t Table, key string) (id string, sure bool) {
	if !x.made.Load() {
		x.make(t)
	}
	if x.twice {
		return "", false
	}
	id, _ = x.ids.Get(key)
	return id, true
}

func (x *nameIndex) make(t Table) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.made.Load() {
		return
	}
	x.ids = x.ids.Fork()
	for r := range t.All() {
		x.put(r)
	}
	x.made.Store(true)
}

// put makes the keys of a record its own.
func (x *nameIndex) put(r Record) {
	for _, k := range nameKeys(r) {
		_, taken := x.ids.Get(k)
		x.twice = x.twice || taken
		x.ids.Set(k, r.Key())
	}
}

// follow makes the index one of a policy that follows another, which nobody else has yet.
func (x *nameIndex) follow(before *nameIndex, done []RecordChange) {
	if !before.made.Load() {
		return
	}
	defer x.made.Store(true)
	if x.ids, x.twice = before.ids, before.twice; len(done) == 0 || x.twice {
		return
	}
	x.ids = x.ids.Fork()
	for _, c := range done {
		if c.Before == nil {
			continue
		}
		for _, k := range nameKeys(c.Before) {
			if id, _ := x.ids.Get(k); id == c.Before.Key() {
				x.ids.Delete(k)
			}
		}
	}
	for _, c := range done {
		if c.After != nil {
			x.put(c.After)
		}
	}
}
