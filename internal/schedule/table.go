package schedule

import (
	"sort"
	"time"
)

// table is how a timeline will run, written out. Questions about what is possible at any time go over the whole of it, again and again:
// looking at each day anew is most of what they would cost.
type table struct {
	from, until int64     // what it covers
	openings    []Opening // within that, in order
}

const (
	looksForTable = 48    // so many looks are worth a table
	mostOpenings  = 20000 // of which no table has more
)

// ahead is the state at an instant by the table; nil where there is none, or it does not reach far enough.
func (t *Timeline) ahead(at int64) *state {
	x := t.table.Load()
	if x == nil || at < x.from || at >= x.until {
		if t.looks.Add(1) < looksForTable {
			return nil
		}
		t.looks.Store(0)
		x = t.write(at)
		t.table.Store(x)
	}
	i := sort.Search(len(x.openings), func(i int) bool { return x.openings[i].Until > at })
	if i == len(x.openings) {
		return nil // how long it stays closed is not known
	}
	o := x.openings[i]
	if o.From > at {
		return &state{from: at, until: o.From, known: x.until}
	}
	if o.Until >= x.until {
		return nil // how long it stays open is not known
	}
	return &state{from: at, until: o.Until, known: x.until, open: true}
}

// write writes the table from an instant on. One of too many openings covers what they cover.
func (t *Timeline) write(at int64) *table {
	x := &table{from: at, until: at + int64(Horizon/time.Second)}
	t.schedule.Openings(t.zone, x.from, x.until, func(o Opening) bool {
		x.openings = append(x.openings, o)
		if len(x.openings) == mostOpenings {
			x.until = o.Until
		}
		return len(x.openings) < mostOpenings
	})
	return x
}
