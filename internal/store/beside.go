package store

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// Beside are the tables that are no part of a revision, of which a machine that can take over has to have every row. A table comes after those that it
// refers to.
var Beside = []string{
	"passwords", "tokens", "links", "places", "facts", "preferences", "second_factors", "recovery_codes", "requests", "drafts", "dismissals",
	"reviews", "review_items", "sources", "origins", "origin_members", "source_runs", "source_contents", "hooks", "feeds",
	"handed_out", "given",
}

// Row is what was done to a row of one of the tables of [Beside].
type Row struct {
	Table  string               `json:"table"`
	Gone   bool                 `json:"gone,omitempty"` // it was taken away: Values are those of its key
	Values map[string][2]string `json:"values"`         // by column: the type in SQLite and the value, of a blob in hexadecimal
}

// Done is what a transaction has done beside the policy.
type Done struct {
	Rows  []Row  // nil: nothing
	Trail []byte // hash over all that was ever done so, up to this
}

// Taken is what another machine has done in a transaction, as it came with an entry of the log.
type Taken struct {
	Done
	Position Position // of the entry
}

// Position is how much of the log of revisions a store has.
type Position struct {
	Seq   uint64 `json:"seq"` // of the last entry that did anything; 0: none
	Epoch uint64 `json:"epoch"`
}

// Keep makes a transaction of a change beside the policy. It calls published when all is written and before it counts, and notes the place that it gives: where
// that gives an error, nothing was written.
type Keep func(published func(Done) (Position, error)) error

// Logged has everything that is done beside the policy from now on go through a log before it counts: by a function that calls keep, once. nil: nothing goes
// there.
func (s *Store) Logged(through func(ctx context.Context, keep Keep) error) {
	if through == nil {
		s.log.Store(nil)
		return
	}
	s.log.Store(&through)
}

// Facts of which each machine has its own, and which are no rows for others.
const (
	factPosition = "place in the log" // JSON of a Position
	factTrail    = "trail"            // hash over all that was done beside the policy, in hexadecimal
)

const movedTable = `
CREATE TEMP TABLE IF NOT EXISTS moved (seq INTEGER PRIMARY KEY, tab TEXT, gone INTEGER, row TEXT, isrow TEXT, was TEXT);
DELETE FROM moved;`

// column is a column of a table.
type column struct {
	Name string
	PK   int // its place in the key, from 1; 0: it is not of it
}

// columnsOf lists the columns of a table. Its error is that of a name that is none of [Beside].
func columnsOf(tx *gorm.DB, table string) ([]column, error) {
	if !slices.Contains(Beside, table) {
		return nil, fmt.Errorf("%q is no table of this program: bring it up to date", table)
	}
	var out []column
	return out, tx.Raw("SELECT name, pk FROM pragma_table_info(?) ORDER BY cid", table).Scan(&out).Error
}

// watch has what is done to the tables of [Beside] noted, by the connection of a transaction, from now on.
func watch(tx *gorm.DB) error {
	if err := tx.Exec(movedTable).Error; err != nil {
		return err
	}
	var there int
	if err := database.Row(tx.Raw("SELECT count(*) FROM temp.sqlite_master WHERE type = 'trigger' AND name LIKE 'moved\\_%' ESCAPE '\\'"), &there); err != nil || there == 3*len(Beside) {
		return err
	}
	for _, table := range Beside {
		columns, err := columnsOf(tx, table)
		if err != nil {
			return err
		}
		for _, event := range []string{"INSERT", "UPDATE", "DELETE"} {
			if err := tx.Exec(trigger(table, event, columns)).Error; err != nil {
				return fmt.Errorf("watch the table %s: %w", table, err)
			}
		}
	}
	return nil
}

// trigger is the statement that has an event on a table noted. No key of these tables ever changes.
func trigger(table, event string, columns []column) string {
	of, gone, is, was := "NEW.", 0, "NULL", "NULL"
	if event == "DELETE" {
		of, gone = "OLD.", 1
	}
	if event != "DELETE" {
		is = rowText(table, "NEW.", accounted(table, columns), false)
	}
	if event != "INSERT" {
		was = rowText(table, "OLD.", accounted(table, columns), false)
	}
	when := ""
	if table == "facts" {
		untold := slices.DeleteFunc(slices.Clone(ownFacts), func(name string) bool { return name == factSmall }) // which others have too
		when = fmt.Sprintf("WHEN %sname NOT IN ('%s') ", of, strings.Join(untold, "', '"))
		if event != "DELETE" {
			is = fmt.Sprintf("CASE NEW.name WHEN '%s' THEN NULL ELSE %s END", factSmall, is)
		}
		if event != "INSERT" {
			was = fmt.Sprintf("CASE OLD.name WHEN '%s' THEN NULL ELSE %s END", factSmall, was)
		}
	}
	return fmt.Sprintf("CREATE TEMP TRIGGER IF NOT EXISTS moved_%s_%s AFTER %s ON main.%s %sBEGIN INSERT INTO moved (tab, gone, row, isrow, was) VALUES ('%s', %d, %s, %s, %s); END",
		table, strings.ToLower(event), event, table, when, table, gone, rowText(table, of, columns, gone == 1), is, was)
}

func quoted(name string) string { return `"` + name + `"` }

// done is what a transaction that was watched has done, and the trail after it, which it keeps.
func done(tx *gorm.DB) (Done, error) {
	var list []struct {
		Tab  string
		Gone bool
		Row  string
	}
	if err := tx.Raw("SELECT tab, gone, row FROM moved ORDER BY seq").Scan(&list).Error; err != nil {
		return Done{}, err
	}
	out := Done{}
	for _, m := range list {
		row := Row{Table: m.Tab, Gone: m.Gone}
		if err := json.Unmarshal([]byte(m.Row), &row.Values); err != nil {
			return out, fmt.Errorf("read what was done to %s: %w", m.Tab, err)
		}
		if m.Tab == "facts" && row.Values["name"][1] == factPicture { // each machine has a picture of its own
			continue
		}
		out.Rows = append(out.Rows, row)
	}
	var err error
	out.Trail, err = goOn(tx, out.Rows)
	return out, err
}

// goOn keeps the trail after rows, and gives it.
func goOn(tx *gorm.DB, rows []Row) ([]byte, error) {
	before, err := trail(tx)
	if err != nil || len(rows) == 0 {
		return before, err
	}
	text, err := json.Marshal(rows)
	if err != nil {
		return nil, err
	}
	h := sha256.New()
	to := database.NewFieldWriter(h)
	to.Text("sentier-trail/1")
	to.Bytes(before)
	to.Bytes(text)
	if err := to.Flush(); err != nil {
		return nil, err
	}
	after := h.Sum(nil)[:trailSize]
	return after, setOwnFact(tx, factTrail, hex.EncodeToString(after))
}

// trailSize is how many bytes a trail has.
const trailSize = 16

// trail is the trail as it stands: that of a store in which nothing was ever done is of zeros.
func trail(tx *gorm.DB) ([]byte, error) {
	var list []string
	if err := tx.Raw("SELECT value FROM facts WHERE name = ?", factTrail).Scan(&list).Error; err != nil || len(list) == 0 {
		return make([]byte, trailSize), err
	}
	return hex.DecodeString(list[0])
}

// alone begins another trail: what is done now is told to nobody, so that who has followed until now has not got the same any more.
func alone(tx *gorm.DB) error {
	var begins [trailSize]byte
	rand.Read(begins[:])
	return setOwnFact(tx, factTrail, hex.EncodeToString(begins[:]))
}

func setOwnFact(tx *gorm.DB, name, value string) error {
	return tx.Exec("INSERT INTO facts (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", name, value).Error
}

func setPosition(tx *gorm.DB, at Position) error {
	text, err := json.Marshal(at)
	if err != nil || at.Seq == 0 {
		return err
	}
	return setOwnFact(tx, factPosition, string(text))
}

// Position is how much of the log the store has, and its trail.
func (s *Store) Position(ctx context.Context) (at Position, of []byte, err error) {
	tx := s.reader.WithContext(ctx)
	text, err := s.FactOf(ctx, factPosition)
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &at)
	}
	if err == nil {
		of, err = trail(tx)
	}
	if err != nil {
		err = fmt.Errorf("read how much of the log of revisions is here: %w", err)
	}
	return at, of, err
}

// ErrTrail is that what another machine has done was done to something else than what is here.
var ErrTrail = errors.New("what is kept here beside the policy is not what it was done to")

// TakeBeside writes what another machine has done beside the policy. The error is [ErrTrail] where this store does not stand where that one did.
func (s *Store) TakeBeside(ctx context.Context, t *Taken) error {
	s.saving.Lock()
	defer s.saving.Unlock()
	if err := s.Replaced(); err != nil {
		return err
	}
	var count uint64
	err := database.Full(s.writer.WithContext(ctx).Transaction(func(tx *gorm.DB) (err error) {
		if err := watch(tx); err != nil {
			return err
		}
		if err := errors.Join(t.write(tx), account(tx), s.keepWitnessed(tx)); err != nil {
			return err
		}
		count, err = smallCount(tx)
		return err
	}))
	if err != nil {
		return fmt.Errorf("take over what was done beside the policy: %w", err)
	}
	return s.acknowledge(count)
}

// acknowledge marks that so many changes of credentials were made.
func (s *Store) acknowledge(count uint64) error {
	s.dirty.Add(1)
	return s.head.Update(func(m *database.Mark) { m.Small = max(m.Small, count) })
}

// write writes what another machine has done.
func (t *Taken) write(tx *gorm.DB) error {
	if t == nil {
		return nil
	}
	known := map[string][]column{}
	for i := range t.Rows {
		r := &t.Rows[i]
		if known[r.Table] == nil {
			columns, err := columnsOf(tx, r.Table)
			if err != nil {
				return err
			}
			known[r.Table] = columns
		}
		if err := r.write(tx, known[r.Table]); err != nil {
			return fmt.Errorf("table %s: %w", r.Table, err)
		}
	}
	after, err := goOn(tx, t.Rows)
	if err != nil {
		return err
	}
	if string(after) != string(t.Trail) {
		return ErrTrail
	}
	return setPosition(tx, t.Position)
}

func (r *Row) write(tx *gorm.DB, columns []column) error {
	var names, key, keep []string
	var values []any
	for _, c := range columns {
		v, ok := r.Values[c.Name]
		if !ok {
			continue // the machine that has done it is of an earlier version
		}
		value, err := valueOf(v)
		if err != nil {
			return fmt.Errorf("column %s: %w", c.Name, err)
		}
		names, values = append(names, quoted(c.Name)), append(values, value)
		if c.PK > 0 {
			key = append(key, quoted(c.Name))
		} else {
			keep = append(keep, fmt.Sprintf("%[1]s = excluded.%[1]s", quoted(c.Name)))
		}
	}
	if len(names) != len(r.Values) || len(key) == 0 {
		return errors.New("it has columns that this program does not know: bring it up to date")
	}
	if r.Gone {
		return tx.Exec("DELETE FROM "+r.Table+" WHERE "+strings.Join(names, " = ? AND ")+" = ?", values...).Error
	}
	again := "DO NOTHING"
	if len(keep) > 0 {
		again = "DO UPDATE SET " + strings.Join(keep, ", ")
	}
	return tx.Exec("INSERT INTO "+r.Table+" ("+strings.Join(names, ", ")+") VALUES (?"+strings.Repeat(", ?", len(names)-1)+") ON CONFLICT ("+strings.Join(key, ", ")+") "+again, values...).Error
}

// valueOf reads the value of a column as SQLite has it.
func valueOf(v [2]string) (any, error) {
	switch kind, text := v[0], v[1]; kind {
	case "null":
		return nil, nil
	case "text":
		return text, nil
	case "blob":
		return hex.DecodeString(text)
	case "integer":
		return strconv.ParseInt(text, 10, 64)
	default:
		return nil, fmt.Errorf("%q is no type of SQLite", kind)
	}
}
