package audit

import (
	"context"
	"database/sql"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// Filter says which entries are looked for: those that all of it holds for. Its zero value holds for all.
type Filter struct {
	Kinds         []Kind
	By, User      string
	Either        string // it was done by, or is about, this user
	Device, Point string // Point is one of Device
	Right         string
	Outcomes      []string
	Not           []string // outcomes that are left out
	From          string
	Token         string
	Since, Until  time.Time // half-open
	Before, After uint64    // entries, not included; 0: no bound
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
	f, days, err := bounded(tx, f)
	if err != nil || f.Before != 0 && f.Before <= f.After+1 {
		return Page{}, err
	}
	switch {
	case f.Either != "":
		return byDays(tx, f, days, limit, lane{"audit_user", "user = ? AND user <> ''", f.Either}, lane{"audit_by", "by = ? AND kind <> 'decision' AND user <> by", f.Either})
	case f.User != "":
		return byDays(tx, f, days, limit, lane{"audit_user", "user = ? AND user <> ''", f.User})
	case f.Device != "":
		return byDays(tx, f, days, limit, lane{"audit_device", "device = ? AND device <> ''", f.Device})
	case len(f.Kinds) > 0 && !slices.Contains(f.Kinds, Decision):
		if f.By != "" {
			return byDays(tx, f, days, limit, lane{"audit_by", "by = ? AND kind <> 'decision'", f.By})
		}
		return byKinds(tx, f, limit)
	}
	return byOrder(tx, f, limit)
}

// bounded narrows a filter to where the days in question lie, and lists them, newest first.
func bounded(tx *gorm.DB, f Filter) (Filter, []int64, error) {
	q := tx.Table("audit_days").Order("day DESC")
	if !f.Since.IsZero() {
		q = q.Where("day >= ?", dayOf(f.Since))
	}
	if !f.Until.IsZero() {
		q = q.Where("day <= ?", dayOf(f.Until))
	}
	var days []struct{ Day, First, Last int64 }
	if err := q.Find(&days).Error; err != nil {
		return f, nil, database.Damaged(err)
	}
	list := make([]int64, 0, len(days))
	var first, last uint64
	for _, d := range days {
		list = append(list, d.Day)
		if first == 0 || uint64(d.First) < first {
			first = uint64(d.First)
		}
		last = max(last, uint64(d.Last))
	}
	if first == 0 { // no day at all
		f.Before, f.After = 1, 1
		return f, nil, nil
	}
	f.After = max(f.After, first-1)
	if f.Before == 0 || f.Before > last+1 {
		f.Before = last + 1
	}
	return f, list, nil
}

// where are the conditions of a filter that no lane holds for already.
func (f *Filter) where() (string, []any) {
	parts, values := []string{"seq < ?", "seq > ?"}, []any{int64(f.Before), int64(f.After)}
	add := func(part string, value ...any) {
		parts, values = append(parts, part), append(values, value...)
	}
	for _, c := range []struct{ column, value string }{
		{"by", f.By}, {"user", f.User}, {"device", f.Device}, {"point", f.Point}, {"right", f.Right}, {"came_from", f.From}, {"token", f.Token},
	} {
		if c.value != "" {
			add(c.column+" = ?", c.value)
		}
	}
	if f.Either != "" {
		add("(user = ? OR by = ? AND kind <> 'decision')", f.Either, f.Either)
	}
	kinds := make([]string, len(f.Kinds))
	for i, k := range f.Kinds {
		kinds[i] = string(k)
	}
	for _, c := range []struct {
		column string
		list   []string
		not    string
	}{{"kind", kinds, ""}, {"outcome", f.Outcomes, ""}, {"outcome", f.Not, "NOT "}} {
		if len(c.list) > 0 {
			add(c.column+" "+c.not+"IN (?"+strings.Repeat(",?", len(c.list)-1)+")", anyOf(c.list)...)
		}
	}
	if !f.Since.IsZero() {
		add("at >= ?", f.Since.UnixMicro())
	}
	if !f.Until.IsZero() {
		add("at < ?", f.Until.UnixMicro())
	}
	return strings.Join(parts, " AND "), values
}

func anyOf(list []string) []any {
	out := make([]any, len(list))
	for i, s := range list {
		out[i] = s
	}
	return out
}

// lane is an index by day, and what leads into it.
type lane struct{ index, where, value string }

// byDays looks day by day, newest first: each is a probe of an index.
func byDays(tx *gorm.DB, f Filter, days []int64, limit int, lanes ...lane) (Page, error) {
	rest, values := f.where()
	var out Page
	for _, day := range days {
		for _, l := range lanes {
			found, err := scan(tx, "SELECT "+all+" FROM audit_entries INDEXED BY "+l.index+" WHERE day = ? AND "+l.where+" AND "+rest+" ORDER BY seq DESC LIMIT ?",
				append([]any{day, l.value}, append(slices.Clone(values), limit+1)...)...)
			if err != nil {
				return out, err
			}
			out.Entries = append(out.Entries, found...)
		}
		if len(out.Entries) > limit {
			break // days overlap only where a clock was put back: those entries come with the next page
		}
	}
	return out.cut(limit), nil
}

// byKinds looks for kinds that are no decisions, by their index.
func byKinds(tx *gorm.DB, f Filter, limit int) (Page, error) {
	kinds := f.Kinds
	var out Page
	for _, k := range kinds {
		f.Kinds = []Kind{k}
		rest, values := f.where()
		found, err := scan(tx, "SELECT "+all+" FROM audit_entries INDEXED BY audit_kind WHERE kind <> 'decision' AND "+rest+" ORDER BY seq DESC LIMIT ?", append(values, limit+1)...)
		if err != nil {
			return out, err
		}
		out.Entries = append(out.Entries, found...)
	}
	return out.cut(limit), nil
}

// byOrder reads the entries as they lie, so many at once.
func byOrder(tx *gorm.DB, f Filter, limit int) (Page, error) {
	bound := f.After
	if f.Before > lookedOnce {
		f.After = max(f.After, f.Before-1-lookedOnce)
	}
	rest, values := f.where()
	found, err := scan(tx, "SELECT "+all+" FROM audit_entries WHERE "+rest+" ORDER BY seq DESC LIMIT ?", append(values, limit+1)...)
	out := Page{Entries: found}.cut(limit)
	if out.Next == 0 && f.After > bound {
		out.Next = f.After + 1
	}
	return out, err
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

// all are the columns that make an entry.
const all = "seq, at, kind, outcome, by, via, token, came_from, user, right, device, point, revision, more, chain"

func scan(tx *gorm.DB, query string, values ...any) ([]Entry, error) {
	var out []Entry
	err := each(tx, func(e *Entry) error {
		out = append(out, *e)
		return nil
	}, query, values...)
	return out, err
}

// each calls visit with every entry that a query finds; it may keep what it is given.
func each(tx *gorm.DB, visit func(*Entry) error, query string, values ...any) error {
	rows, err := tx.Raw(query, values...).Rows()
	if err != nil {
		return database.Damaged(err)
	}
	defer rows.Close()
	for rows.Next() {
		e, err := read(rows)
		if err != nil {
			return database.Damaged(err)
		}
		if err := visit(&e); err != nil {
			return err
		}
	}
	return database.Damaged(rows.Err())
}

func read(rows *sql.Rows) (Entry, error) {
	var e Entry
	var at, seq, revision int64
	var more string
	err := rows.Scan(&seq, &at, &e.Kind, &e.Outcome, &e.By, &e.Via, &e.Token, &e.From, &e.User, &e.Right, &e.Device, &e.Point, &revision, &more, &e.Chain)
	e.Seq, e.Revision, e.At = uint64(seq), uint64(revision), time.UnixMicro(at).UTC()
	if more != "" {
		e.More = json.RawMessage(more)
	}
	return e, err
}

func entryAt(tx *gorm.DB, seq uint64) (Entry, error) {
	list, err := scan(tx, "SELECT "+all+" FROM audit_entries WHERE seq = ?", int64(seq))
	if err == nil && len(list) == 0 {
		return Entry{}, &database.WrongError{What: EntryName(seq), Problem: "is missing"}
	}
	return append(list, Entry{})[0], err
}

// LastOf finds the last entry of a kind.
func (r *Record) LastOf(ctx context.Context, kind Kind) (Entry, bool, error) {
	list, err := scan(r.reader.WithContext(ctx), "SELECT "+all+" FROM audit_entries INDEXED BY audit_kind WHERE kind = ? AND kind <> 'decision' ORDER BY seq DESC LIMIT 1", string(kind))
	return append(list, Entry{})[0], len(list) > 0, err
}

// Each calls visit with every entry of a filter, oldest first.
func (r *Record) Each(ctx context.Context, f Filter, visit func(*Entry) error) error {
	tx := r.reader.WithContext(ctx)
	f, _, err := bounded(tx, f)
	if err != nil {
		return err
	}
	rest, values := f.where()
	// A reader that lasts keeps the log from being taken into the file: it lasts for so many entries.
	for from := f.After; from+1 < f.Before; from += lookedOnce {
		values[0], values[1] = int64(min(f.Before, from+lookedOnce+1)), int64(from)
		if err := each(tx, visit, "SELECT "+all+" FROM audit_entries WHERE "+rest+" ORDER BY seq", values...); err != nil {
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
		timer := time.NewTimer(quiet)
		select {
		case <-ctx.Done():
			timer.Stop()
			return nil
		case <-next:
			timer.Stop()
		case <-timer.C:
			if err := visit(nil); err != nil {
				return err
			}
		}
	}
}
