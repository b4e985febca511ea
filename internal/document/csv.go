package document

import (
	"bytes"
	"encoding/binary"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"reflect"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode/utf16"

	"sentier/internal/policy"
)

// Sheet is what a CSV file can hold: the records of a type, or the entries of the long lists of one.
type Sheet string

// The sheets of long lists: members of user groups, devices of device groups.
const (
	MemberSheet     Sheet = "members"
	DeviceListSheet Sheet = "device_lists"
)

// layout is how a sheet is laid out.
type layout struct {
	sheet   Sheet
	of      policy.Type // whose records it lists, or whose long lists
	fields  []column    // of a sheet of records
	columns []string    // in the order in which they are written
	groups  policy.Type // whose long lists the column "groups" names; SettingsType: there is none
	needs   []string    // columns without which nothing can be read
}

// column is a field that a cell holds.
type column struct {
	name string
	path []policy.Field // from the record to the field
}

// layouts are those of all sheets. A sheet of records has a column for every field that a cell can hold; one that is left out stays as
// it is. Types have a sheet where cells hold all that they are made of.
var layouts = func() (out []layout) {
	grouped := map[policy.Type]policy.Type{policy.Users: policy.UserGroups, policy.Devices: policy.DeviceGroups}
	for _, t := range policy.Types() {
		d := policy.Describe(t)
		fields, whole := columnsOf(d.Fields, nil)
		if !whole || d.LongList != "" {
			continue
		}
		l := layout{sheet: Sheet(t.String()), of: t, fields: fields, groups: grouped[t], needs: []string{"name"}}
		for _, c := range fields {
			l.columns = append(l.columns, c.name)
		}
		if l.groups != policy.SettingsType {
			l.columns = append(l.columns, "groups")
		}
		out = append(out, l)
	}
	return append(out,
		layout{sheet: MemberSheet, of: policy.UserGroups, columns: []string{"group", "user", "from", "until"}, needs: []string{"group", "user"}},
		layout{sheet: DeviceListSheet, of: policy.DeviceGroups, columns: []string{"group", "device"}, needs: []string{"group", "device"}})
}()

// Sheets lists the sheets, each with its columns.
func Sheets() map[Sheet][]string {
	out := map[Sheet][]string{}
	for _, l := range layouts {
		out[l.sheet] = l.columns
	}
	return out
}

func layoutOf(sheet Sheet) (layout, error) {
	i := slices.IndexFunc(layouts, func(l layout) bool { return l.sheet == sheet })
	if i >= 0 {
		return layouts[i], nil
	}
	names := make(policy.Names, len(layouts))
	for i, l := range layouts {
		names[i] = string(l.sheet)
	}
	return layout{}, Faults{{0, 0, "", policy.Say("%q is no sheet: there are %s", sheet, names)}}
}

// listMark stands between the entries of one cell.
const listMark = "|"

// Import is what a CSV file would do.
type Import struct {
	Changes []policy.Change
	Rows    int
	lines   map[lineKey]int // of the file, by record
}

type lineKey struct {
	t  policy.Type
	id string
}

// Line is the line of the file that a fault of a change comes from; 0 where it comes from none.
func (i *Import) Line(t policy.Type, id string) int { return i.lines[lineKey{t, id}] }

// csvReader turns rows into changes.
type csvReader struct {
	now     time.Time
	p       *policy.Policy
	layout  layout
	head    []string
	faults  Faults
	out     *Import
	records map[lineKey]policy.Record // as the rows so far make them
	emails  map[string]emailUse       // of users, in small letters
	named   map[membership]bool       // by the rows so far
}

// emailUse is who has an e-mail, and by which row; 0: they had it before.
type emailUse struct {
	id   string
	line int
}

// wideText turns UTF-16 with a byte order mark, as spreadsheets write it, into UTF-8.
func wideText(data []byte) []byte {
	var order binary.ByteOrder
	switch {
	case bytes.HasPrefix(data, []byte{0xff, 0xfe}):
		order = binary.LittleEndian
	case bytes.HasPrefix(data, []byte{0xfe, 0xff}):
		order = binary.BigEndian
	default:
		return data
	}
	units := make([]uint16, 0, len(data)/2)
	for at := 2; at+1 < len(data); at += 2 {
		units = append(units, order.Uint16(data[at:]))
	}
	return []byte(string(utf16.Decode(units)))
}

// separator finds what parts the cells: what a first line “sep=” says, or else what the first line has most of.
func separator(data []byte) (rest []byte, comma rune, skipped int) {
	first, after, _ := bytes.Cut(data, []byte("\n"))
	if sign, ok := strings.CutPrefix(strings.ToLower(strings.Trim(strings.TrimRight(string(first), "\r"), `"`)), "sep="); ok && len(sign) == 1 && strings.Contains(",;\t|", sign) {
		return after, rune(sign[0]), 1
	}
	best := ','
	for _, sign := range ";\t" {
		if bytes.Count(first, []byte(string(sign))) > bytes.Count(first, []byte(string(best))) {
			best = sign
		}
	}
	return data, best, 0
}

// Cells that a spreadsheet would take for formulas are written with an apostrophe before them, which is taken off again.
var (
	formula = regexp.MustCompile(`^'*[=+@\t\r-]`)
	guarded = regexp.MustCompile(`^'+[=+@\t\r-]`)
)

// Guarded is a cell that no spreadsheet takes for a formula.
func Guarded(cell string) string { return guard(cell, true) }

func guard(cell string, people bool) string {
	if people && formula.MatchString(cell) || guarded.MatchString(cell) {
		return "'" + cell
	}
	return cell
}

func unguard(cell string) string {
	if guarded.MatchString(cell) {
		return cell[1:]
	}
	return cell
}

// ReadCSV reads a sheet (RFC 4180; UTF-8 with or without a byte order mark, or UTF-16 with one; by commas, semicolons or tabs) as
// changes of a policy. Rows of one id are one person; an e-mail in rows of several is a fault that names both. Times are instants of RFC
// 3339, or words as [ParseInstant] reads them now, by the clock of the policy. The error is of type [Faults], each with the line and the
// column's name.
func ReadCSV(p *policy.Policy, sheet Sheet, data []byte, now time.Time) (*Import, error) {
	layout, err := layoutOf(sheet)
	if err != nil {
		return nil, err
	}
	data, faults := plainText(wideText(data))
	if len(faults) > 0 {
		return nil, faults
	}
	data, comma, skipped := separator(data)
	rows := csv.NewReader(bytes.NewReader(data))
	rows.FieldsPerRecord, rows.Comma = -1, comma
	r := &csvReader{p: p, now: now, layout: layout, out: &Import{lines: map[lineKey]int{}}, records: map[lineKey]policy.Record{}, emails: map[string]emailUse{}, named: map[membership]bool{}}
	if layout.of == policy.Users {
		for u := range policy.Each[*policy.User](p) {
			if u.Email != "" {
				r.emails[strings.ToLower(u.Email)] = emailUse{id: u.Key()}
			}
		}
	}
	for {
		cells, err := rows.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		var syntax *csv.ParseError
		if errors.As(err, &syntax) {
			return nil, append(r.faults, Fault{syntax.Line + skipped, syntax.Column, "", policy.Say("is no CSV: %v", syntax.Err)})
		} else if err != nil {
			return nil, Faults{{0, 0, "", policy.SaidBy(err)}}
		}
		line, _ := rows.FieldPos(0)
		r.row(cells, line+skipped)
	}
	if r.head == nil {
		r.fault(1, "", "is empty: the first line names the columns: %s", strings.Join(layout.columns, ","))
	}
	r.finish()
	if len(r.faults) > 0 {
		// What is wrong with the other rows comes to light at once.
		var more policy.Faults
		if _, _, err := p.Apply(r.out.Changes); errors.As(err, &more) {
			for _, f := range r.out.InLines(more) {
				if !slices.ContainsFunc(r.faults, func(have Fault) bool { return have.Line == f.Line }) {
					r.faults = append(r.faults, f)
				}
			}
		}
		return nil, r.faults.sorted()
	}
	return r.out, nil
}

// InLines tells the faults of the changes by the lines of the file that they come from.
func (i *Import) InLines(faults policy.Faults) Faults {
	var out Faults
	for _, f := range faults {
		column, _, _ := strings.Cut(strings.NewReplacer("[", ".", "valid.", "").Replace(f.Field), ".")
		out = append(out, Fault{i.Line(f.Type, f.ID), 1, column, f.Problem})
	}
	return out
}

func (r *csvReader) fault(line int, column, form string, args ...any) {
	r.faults = append(r.faults, Fault{line, 1 + max(0, slices.Index(r.head, column)), column, policy.Say(form, args...)})
}

func (r *csvReader) row(cells []string, line int) {
	if r.head == nil {
		r.readHead(cells, line)
		return
	}
	if len(cells) == 1 && strings.TrimSpace(cells[0]) == "" {
		return
	}
	r.out.Rows++
	if len(cells) != len(r.head) {
		r.fault(line, "", "has %d cells, and the first line names %d columns", len(cells), len(r.head))
		return
	}
	row := map[string]string{}
	for i, name := range r.head {
		row[name] = strings.TrimSpace(unguard(cells[i]))
	}
	switch r.layout.sheet {
	case MemberSheet:
		r.entry(policy.UserGroups, row["group"], row["user"], row, line)
	case DeviceListSheet:
		r.entry(policy.DeviceGroups, row["group"], row["device"], row, line)
	default:
		r.record(row, line)
	}
}

func (r *csvReader) readHead(cells []string, line int) {
	r.head = []string{}
	known := r.layout.columns
	for _, c := range cells {
		name := strings.ToLower(strings.TrimSpace(c))
		twice := slices.Contains(r.head, name)
		r.head = append(r.head, name)
		switch {
		case !slices.Contains(known, name):
			if near := policy.Nearest(name, known); near != "" {
				r.fault(line, name, "%q is no column of %s: did you mean %q?", c, r.layout.sheet, near)
			} else {
				r.fault(line, name, "%q is no column of %s: the columns are %s", c, r.layout.sheet, strings.Join(known, ", "))
			}
		case twice:
			r.fault(line, name, "the column %q is there twice", name)
		}
	}
	needed := r.layout.needs
	for _, name := range needed {
		if !slices.Contains(r.head, name) && !(len(needed) == 1 && slices.Contains(r.head, "id")) {
			r.fault(line, name, "the column %q is missing", name)
		}
	}
}

// current is a record as it is, or as the rows before have made it.
func (r *csvReader) current(t policy.Type, id string) (policy.Record, bool) {
	if made, ok := r.records[lineKey{t, id}]; ok {
		return made, true
	}
	return r.p.Get(t, id)
}

func (r *csvReader) idOf(t policy.Type, row map[string]string) string {
	if row["id"] != "" {
		return row["id"]
	}
	return policy.MakeID(row["name"], func(id string) bool { _, taken := r.current(t, id); return taken })
}

// record makes a record what a row says.
func (r *csvReader) record(row map[string]string, line int) {
	t := r.layout.of
	id, ok := row["id"], true
	if t == policy.Users {
		id, ok = r.person(row, line)
	}
	if !ok {
		return
	}
	if id == "" {
		id = r.idOf(t, row)
	}
	next := policy.New(t)
	v := reflect.ValueOf(next).Elem()
	if now, there := r.current(t, id); there {
		v.Set(reflect.ValueOf(now).Elem())
	}
	row["id"] = id
	for i := range r.layout.fields {
		c := &r.layout.fields[i]
		if text, given := row[c.name]; given {
			r.cell(c, v, text, line)
		}
	}
	if u, isUser := next.(*policy.User); isUser && u.Email != "" {
		r.emails[strings.ToLower(u.Email)] = emailUse{id, line}
	}
	r.put(t, id, next, line)
	if r.layout.groups == policy.SettingsType {
		return // “groups”, where there are any, are a field
	}
	for _, g := range cellList(row["groups"]) {
		r.entry(r.layout.groups, g, id, nil, line)
	}
}

// person finds out whom a row is about; not ok, with its fault, where the e-mail is somebody else's.
func (r *csvReader) person(row map[string]string, line int) (id string, ok bool) {
	id = row["id"]
	email := strings.ToLower(row["email"])
	use, used := r.emails[email]
	if used = used && email != ""; used && id == "" && use.line == 0 && policy.FoldName(r.p.Title(policy.Users, use.id)) == policy.FoldName(row["name"]) {
		id = use.id // somebody who is there already, by the name that they have
	}
	if id == "" {
		id = r.idOf(policy.Users, row)
	}
	if used && (use.id != id || use.line > 0 && row["id"] == "") && !r.releases(use) {
		r.fault(line, "email", "%s", r.taken(row["email"], use))
		return id, false
	}
	return id, true
}

// releases tells whether a row before has given somebody another e-mail than the one they had.
func (r *csvReader) releases(use emailUse) bool {
	made, ok := r.records[lineKey{policy.Users, use.id}]
	return use.line == 0 && ok && made.(*policy.User).Email == ""
}

// taken says who has an e-mail that a row gives to somebody else.
func (r *csvReader) taken(email string, use emailUse) policy.Said {
	name := fmt.Sprintf("%q", use.id)
	if title := r.p.Title(policy.Users, use.id); title != use.id {
		name = fmt.Sprintf("%s (%s)", title, use.id)
	}
	if use.line > 0 {
		return policy.Say("the e-mail %q is in line %d too, for %s: one person has one account; give both rows that id, or each an e-mail of its own", email, use.line, name)
	}
	return policy.Say("the e-mail %q is that of %s: give that id to change them, or another e-mail", email, name)
}

func (r *csvReader) put(t policy.Type, id string, record policy.Record, line int) {
	key := lineKey{t, id}
	r.records[key] = record
	if r.out.lines[key] == 0 {
		r.out.lines[key] = line
	}
}

func (r *csvReader) instant(row map[string]string, name string, line int, into *time.Time) {
	text, given := row[name]
	if !given {
		return
	}
	*into = time.Time{}
	if text == "" {
		return
	}
	at, err := policy.ParseInstant(text)
	if err == nil {
		*into = at
		return
	}
	zone, err := policy.LoadZone(r.p.Settings().Zone)
	if err == nil {
		at, err = ParseInstant(text, r.now, zone)
	}
	if err != nil {
		r.fault(line, name, "%v", err)
		return
	}
	*into = at
}

// entry adds a user or a device to a group.
func (r *csvReader) entry(t policy.Type, group, id string, row map[string]string, line int) {
	if group == "" || id == "" {
		r.fault(line, "group", "names no group, or nobody to put into it")
		return
	}
	if _, ok := r.p.Get(t, group); !ok {
		column := "group"
		if row == nil {
			column = "groups"
		}
		if near := r.p.Near(t, group); len(near) > 0 {
			r.fault(line, column, "there is no %s %q: did you mean %s?", policy.Say(t.Noun()), group, policy.Names(near))
		} else {
			r.fault(line, column, "there is no %s %q: add it first", policy.Say(t.Noun()), group)
		}
		return
	}
	c := policy.Change{Op: policy.Add, Type: t, ID: group, List: policy.Describe(t).LongList, Entry: policy.Entry{Value: id}}
	r.instant(row, "from", line, &c.Entry.From)
	r.instant(row, "until", line, &c.Entry.Until)
	r.out.lines[lineKey{t, group}] = line
	if row == nil && t == policy.UserGroups && isMember(r.p, group, id) {
		return // and stays for as long as before
	}
	// A person's rows of a group, each with a time of its own, are together what takes the place of what was there.
	named := membership{group, id}
	c.Beside = t == policy.UserGroups && r.named[named]
	r.named[named] = true
	r.out.Changes = append(r.out.Changes, c)
}

type membership struct{ group, user string }

func isMember(p *policy.Policy, group, user string) bool {
	g, ok := policy.Find[*policy.UserGroup](p, group)
	return ok && g.IsMember(policy.UserID(user))
}

// finish puts the records before the entries that name them.
func (r *csvReader) finish() {
	var puts []policy.Change
	for key, record := range r.records {
		puts = append(puts, policy.Change{Op: policy.Put, Type: key.t, ID: key.id, Record: record, Place: r.out.lines[key]})
	}
	slices.SortFunc(puts, func(a, b policy.Change) int { return a.Place - b.Place })
	r.out.Changes = append(puts, r.out.Changes...)
}

// cellList reads the entries of a cell. What parts them is part of an entry behind a backslash, and so is a backslash.
func cellList(cell string) []string {
	var out []string
	var entry strings.Builder
	end := func() {
		if e := strings.TrimSpace(entry.String()); e != "" {
			out = append(out, e)
		}
		entry.Reset()
	}
	for i := 0; i < len(cell); i++ {
		switch c := cell[i]; {
		case c == '\\' && i+1 < len(cell) && (cell[i+1] == '\\' || cell[i+1] == listMark[0]):
			i++
			entry.WriteByte(cell[i])
		case c == listMark[0]:
			end()
		default:
			entry.WriteByte(c)
		}
	}
	end()
	return out
}

var escapes = strings.NewReplacer(`\`, `\\`, listMark, `\`+listMark)

// listCell writes entries in one cell.
func listCell[T ~string](entries []T) string {
	out := make([]string, len(entries))
	for i, e := range entries {
		out[i] = escapes.Replace(string(e))
	}
	return strings.Join(out, listMark)
}

// WriteCSV writes a sheet, so that reading it again changes nothing; for people with what keeps a spreadsheet from taking a cell for a
// formula.
func WriteCSV(p *policy.Policy, sheet Sheet, people bool) ([]byte, error) {
	layout, err := layoutOf(sheet)
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	rows := [][]string{layout.columns}
	if len(layout.fields) == 0 {
		for r := range p.Table(layout.of).All() {
			for _, e := range policy.LongEntries(r) {
				rows = append(rows, []string{r.Key(), e.Value, instantCell(e.From), instantCell(e.Until)}[:len(layout.columns)])
			}
		}
	} else {
		groups := map[string][]string{}
		if layout.groups != policy.SettingsType {
			for g := range p.Table(layout.groups).All() {
				for _, e := range policy.LongEntries(g) {
					groups[e.Value] = append(groups[e.Value], g.Key())
				}
			}
		}
		for r := range p.Table(layout.of).All() {
			row := layout.row(r)
			if layout.groups != policy.SettingsType {
				row = append(row, listCell(groups[r.Key()]))
			}
			rows = append(rows, row)
		}
	}
	for _, row := range rows[1:] {
		for i, cell := range row {
			row[i] = guard(cell, people)
		}
	}
	if err := w.WriteAll(rows); err != nil {
		return nil, fmt.Errorf("write %s: %w", sheet, err)
	}
	return out.Bytes(), nil
}
