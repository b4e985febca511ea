package audit

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"net/netip"
	"slices"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
	"sentier/internal/notifier"
)

// Filter says which entries are looked for: those that all of it holds for. Its zero value holds for all.
type Filter struct {
	Kinds         []Kind
	By, User      string
	Either        string // it is about this user, or, where it is no decision, was done by them
	Device, Point string // Point is one of Device
	Right         string
	Outcomes      []string
	Not           []string     // outcomes that are left out
	From          netip.Prefix // it came from an address of this network; the zero value: from anywhere, or nowhere
	Token         string
	Since, Until  time.Time // half-open
	Before, After uint64    // entries, not included; 0: no bound
}

// holds tells whether an entry is one of those that are looked for.
func (f *Filter) holds(e *Entry) bool {
	same := func(want, have string) bool { return want == "" || want == have }
	return same(f.By, e.By) && same(f.User, e.User) && same(f.Device, e.Device) && same(f.Point, e.Point) && same(f.Right, e.Right) && f.cameFrom(e.From) && same(f.Token, e.Token) &&
		(f.Either == "" || f.Either == e.User || f.Either == e.By && e.Kind != Decision) &&
		(len(f.Kinds) == 0 || slices.Contains(f.Kinds, e.Kind)) && (len(f.Outcomes) == 0 || slices.Contains(f.Outcomes, e.Outcome)) && !slices.Contains(f.Not, e.Outcome) &&
		(f.Since.IsZero() || !e.At.Before(f.Since)) && (f.Until.IsZero() || e.At.Before(f.Until)) && (f.Before == 0 || e.Seq < f.Before) && e.Seq > f.After
}

func (f *Filter) cameFrom(address string) bool {
	if !f.From.IsValid() {
		return true
	}
	addr, err := netip.ParseAddr(address)
	return err == nil && f.From.Contains(addr.Unmap().WithZone(""))
}

// keys are the postings that lead to all that is looked for; none: nothing does.
func (f *Filter) keys() []string {
	noDecision := len(f.Kinds) > 0 && !slices.Contains(f.Kinds, Decision)
	switch {
	case f.Either != "":
		return []string{ofUser + f.Either, ofBy + f.Either}
	case f.User != "":
		return []string{ofUser + f.User}
	case f.Device != "":
		return []string{ofDevice + f.Device}
	case noDecision && f.By != "":
		return []string{ofBy + f.By}
	case noDecision:
		var out []string
		for _, k := range f.Kinds {
			out = append(out, ofKind+string(k))
		}
		return out
	}
	return nil
}

// Page are entries, newest first, and how far was looked.
type Page struct {
	Entries []Entry
	// Next is below which the next page begins; 0: there is none. A page can be short, or empty, and have a next one: what has no index is
	// looked for in so many entries at once.
	Next uint64
}

// Bounds of a search.
const (
	MaxPage    = 1000
	lookedOnce = 200_000 // entries that are read for one page, where no index leads to them
)

// Search lists entries, newest first.
func (r *Record) Search(ctx context.Context, f Filter, limit int) (Page, error) {
	tx := r.reader.WithContext(ctx)
	f, days, err := r.bounded(tx, f)
	if err != nil || f.Before <= f.After+1 {
		return Page{}, err
	}
	if keys := f.keys(); keys != nil {
		return r.byDays(tx, f, days, keys, limit)
	}
	return byOrder(tx, f, limit)
}

// spans are where the entries of each day lie.
func (r *Record) spans(tx *gorm.DB) (map[int64]span, error) {
	var list []struct{ Day, First, Last int64 }
	if err := tx.Table("audit_days").Find(&list).Error; err != nil {
		return nil, database.Damaged(err)
	}
	days := r.recent.spans()
	if days == nil {
		days = map[int64]span{}
	}
	for _, d := range list {
		of, ok := days[d.Day]
		if !ok {
			of = span{uint64(d.First), uint64(d.Last)}
		}
		days[d.Day] = span{min(of.first, uint64(d.First)), max(of.last, uint64(d.Last))}
	}
	return days, nil
}

// bounded narrows a filter to where the days in question lie, and lists them, newest first.
func (r *Record) bounded(tx *gorm.DB, f Filter) (Filter, []int64, error) {
	days, err := r.spans(tx)
	if err != nil {
		return f, nil, err
	}
	var out []int64
	var first, last uint64
	for day, of := range days {
		if !f.Since.IsZero() && day < dayOf(f.Since) || !f.Until.IsZero() && day > dayOf(f.Until) {
			continue
		}
		out = append(out, day)
		if first == 0 || of.first < first {
			first = of.first
		}
		last = max(last, of.last)
	}
	if first == 0 { // no day at all
		f.Before, f.After = 1, 1
		return f, nil, nil
	}
	slices.SortFunc(out, func(a, b int64) int { return cmp.Compare(b, a) })
	f.After = max(f.After, first-1)
	if f.Before == 0 || f.Before > last+1 {
		f.Before = last + 1
	}
	return f, out, nil
}

// byDays looks day by day, newest first, where the index leads. Days overlap only where a clock was put back.
func (r *Record) byDays(tx *gorm.DB, f Filter, days []int64, keys []string, limit int) (Page, error) {
	var out Page
	seen := map[uint64]bool{}
	for _, day := range days {
		list, err := r.postedIn(tx, day, keys)
		if err != nil {
			return out, err
		}
		for _, first := range list {
			if seen[first] || first >= f.Before || first+mostInBlock <= f.After {
				continue
			}
			seen[first] = true
			if err := out.block(tx, &f, first); err != nil {
				return out, err
			}
			if len(out.Entries) > limit {
				break
			}
		}
		if len(out.Entries) > limit {
			break
		}
	}
	return out.cut(limit), nil
}

// block adds what is looked for of a block. One that was let go is not there any more.
func (p *Page) block(tx *gorm.DB, f *Filter, first uint64) error {
	var body string
	err := database.Row(tx.Raw("SELECT body FROM audit_blocks WHERE first = ?", int64(first)), &body)
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	if err != nil {
		return database.Damaged(err)
	}
	return p.read(f, first, body)
}

func (p *Page) read(f *Filter, first uint64, body string) error {
	return ignoreLine(readBlock(first, body, func(e *Entry) error {
		if f.holds(e) {
			p.Entries = append(p.Entries, *e)
		}
		return nil
	}))
}

// byOrder reads the entries as they lie, newest first, so many at once.
func byOrder(tx *gorm.DB, f Filter, limit int) (Page, error) {
	bound := f.After
	if f.Before > lookedOnce {
		f.After = max(f.After, f.Before-1-lookedOnce)
	}
	rows, err := tx.Raw("SELECT first, body FROM audit_blocks WHERE first < ? AND first > ? ORDER BY first DESC", int64(f.Before), int64(f.After)-mostInBlock).Rows()
	if err != nil {
		return Page{}, database.Damaged(err)
	}
	defer rows.Close()
	var out Page
	for len(out.Entries) <= limit && rows.Next() {
		var first int64
		var body string
		if err := rows.Scan(&first, &body); err != nil {
			return out, database.Damaged(err)
		}
		if err := out.read(&f, uint64(first), body); err != nil {
			return out, err
		}
	}
	if err := rows.Err(); err != nil {
		return out, database.Damaged(err)
	}
	out = out.cut(limit)
	if out.Next == 0 && f.After > bound {
		out.Next = f.After + 1
	}
	return out, nil
}

// cut sorts entries, newest first, and keeps those of one page.
func (p Page) cut(limit int) Page {
	slices.SortFunc(p.Entries, func(a, b Entry) int { return int(int64(b.Seq) - int64(a.Seq)) })
	if len(p.Entries) > limit {
		p.Entries = p.Entries[:limit]
		p.Next = p.Entries[limit-1].Seq
	}
	return p
}

// entryAt finds an entry by its number.
func entryAt(tx *gorm.DB, seq uint64) (found Entry, err error) {
	err = blocks(tx, seq-1, seq+1, func(first uint64, body string) error {
		return readBlock(first, body, func(e *Entry) error {
			if e.Seq == seq {
				found = *e
			}
			return nil
		})
	})
	if err = ignoreLine(err); err == nil && found.Seq == 0 {
		err = &database.WrongError{What: EntryName(seq), Problem: "is missing"}
	}
	return found, err
}

func isLine(err error) bool { return errors.Is(err, errLine) }

// LastOf finds the last entry of a kind.
func (r *Record) LastOf(ctx context.Context, kind Kind) (Entry, bool, error) {
	found, err := r.Search(ctx, Filter{Kinds: []Kind{kind}}, 1)
	return append(found.Entries, Entry{})[0], len(found.Entries) > 0, err
}

// Each calls visit with every entry of a filter, oldest first.
func (r *Record) Each(ctx context.Context, f Filter, visit func(*Entry) error) error {
	tx := r.reader.WithContext(ctx)
	end, err := lastLink(tx)
	if err != nil {
		return err
	}
	if f.Before == 0 || f.Before > end.seq+1 {
		f.Before = end.seq + 1
	}
	if !f.Since.IsZero() || !f.Until.IsZero() {
		if f, _, err = r.bounded(tx, f); err != nil {
			return err
		}
	}
	// A reader that lasts keeps the log from being taken into the file: it lasts for so many entries.
	for from := f.After; from+1 < f.Before; from += lookedOnce {
		part := f
		part.After, part.Before = from, min(f.Before, from+lookedOnce+1)
		err := blocks(tx, part.After, part.Before, func(first uint64, body string) error {
			return ignoreLine(readBlock(first, body, func(e *Entry) error {
				if !part.holds(e) {
					return nil
				}
				return visit(e)
			}))
		})
		if err != nil {
			return err
		}
	}
	return nil
}

// Follow calls visit with every entry of a filter after one, those that are past first, until ctx ends or visit fails; and with nil when
// it has been quiet for a while.
func (r *Record) Follow(ctx context.Context, after uint64, f Filter, quiet time.Duration, visit func(*Entry) error) error {
	for {
		next, last := r.told.Wait(), r.Last()
		if after < last {
			f.After, f.Before = after, last+1
			if err := r.Each(ctx, f, visit); err != nil {
				return err
			}
			after = last
		}
		silent, open := notifier.Quietly(ctx, next, quiet)
		if !open {
			return nil
		}
		if silent {
			if err := visit(nil); err != nil {
				return err
			}
		}
	}
}
