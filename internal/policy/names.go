package policy

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"
)

// nameIndex finds whose a name is among the records of a type. It is made when it is first asked, and carried on from a policy to the next, so that a change
// costs what it changes and not a look at all names.
type nameIndex struct {
	mu    sync.Mutex
	made  atomic.Bool
	base  map[string]string // id by key, shared by policies
	over  map[string]string // what is other than in base, likewise; empty: nobody's
	last  *nameStep         // what is other than in both
	twice bool              // a key is of two records, as it may be in a policy from before names were checked: then it tells nothing
}

// nameStep is what a change made of names.
type nameStep struct {
	before *nameStep
	ids    map[string]string // by key; empty: nobody's
	deep   int
}

// mostSteps is how many steps are looked through for a name.
const mostSteps = 32

// leastOver is how much may be other than in the base at least; more where the base is large, so that copying either costs about the same.
const leastOver = 64

// of finds whose a key is; empty: nobody's. It is not sure where a key of the type is of two records.
func (x *nameIndex) of(t Table, key string) (id string, sure bool) {
	if !x.made.Load() {
		x.make(t)
	}
	if x.twice {
		return "", false
	}
	return x.now(key), true
}

func (x *nameIndex) now(key string) string {
	for s := x.last; s != nil; s = s.before {
		if id, ok := s.ids[key]; ok {
			return id
		}
	}
	if id, ok := x.over[key]; ok {
		return id
	}
	return x.base[key]
}

func (x *nameIndex) make(t Table) {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.made.Load() {
		return
	}
	x.base = map[string]string{}
	for r := range t.All() {
		for _, k := range nameKeys(r) {
			if _, taken := x.base[k]; taken {
				x.twice = true
			}
			x.base[k] = r.Key()
		}
	}
	x.made.Store(true)
}

// follow makes the index one of a policy that follows another, which nobody else has yet.
func (x *nameIndex) follow(before *nameIndex, done []RecordChange) {
	if !before.made.Load() {
		return
	}
	x.base, x.over, x.last, x.twice = before.base, before.over, before.last, before.twice
	defer x.made.Store(true)
	if len(done) == 0 || x.twice {
		return
	}
	step := &nameStep{before: x.last, ids: map[string]string{}, deep: 1}
	if step.before != nil {
		step.deep += step.before.deep
	}
	x.last = step
	for _, c := range done {
		if c.Before == nil {
			continue
		}
		for _, k := range nameKeys(c.Before) {
			if x.now(k) == c.Before.Key() {
				step.ids[k] = ""
			}
		}
	}
	for _, c := range done {
		if c.After == nil {
			continue
		}
		for _, k := range nameKeys(c.After) {
			x.twice = x.twice || x.now(k) != ""
			step.ids[k] = c.After.Key()
		}
	}
	if step.deep >= mostSteps || len(step.ids) > leastOver {
		x.gather()
	}
}

// gather puts what the steps made of names into one map, and that into the base once it is large.
func (x *nameIndex) gather() {
	over := maps.Clone(x.over)
	if over == nil {
		over = map[string]string{}
	}
	var steps []*nameStep
	for s := x.last; s != nil; s = s.before {
		steps = append(steps, s)
	}
	for _, s := range slices.Backward(steps) {
		maps.Copy(over, s.ids)
	}
	if x.over, x.last = over, nil; len(over) <= leastOver || len(over)*len(over) <= len(x.base) {
		return
	}
	x.base = maps.Clone(x.base)
	for k, id := range over {
		if id == "" {
			delete(x.base, k)
			continue
		}
		x.base[k] = id
	}
	x.over = nil
}
