package document

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	"sentier/internal/policy"
)

// Sheet is what a CSV file can hold.
type Sheet string

// The sheets: users, devices, members of user groups, devices of device groups.
const (
	UserSheet       Sheet = "users"
	DeviceSheet     Sheet = "devices"
	MemberSheet     Sheet = "members"
	DeviceListSheet Sheet = "device_lists"
)

// columns are those that each sheet knows, in the order in which it is written. Those of sheets of records
// can be left out, and what is left out stays as it is.
var columns = map[Sheet][]string{
	UserSheet:       {"id", "name", "email", "kind", "status", "from", "until", "groups"},
	DeviceSheet:     {"id", "name", "kind", "site", "state", "tags", "points", "address", "groups"},
	MemberSheet:     {"group", "user", "from", "until"},
	DeviceListSheet: {"group", "device"},
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
	p       *policy.Policy
	sheet   Sheet
	head    []string
	faults  Faults
	out     *Import
	records map[lineKey]policy.Record // as the rows so far make them
	emails  map[string]string         // of users, to ids
	named   map[membership]bool       // by the rows so far
}

// ReadCSV reads a sheet (RFC 4180, UTF-8 with or without a byte order mark, by commas or semicolons) as
// changes of a policy. A person who is in it several times stays one person. The error is of type [Faults], each
// with the line and the column's name.
func ReadCSV(p *policy.Policy, sheet Sheet, data []byte) (*Import, error) {
	if _, ok := columns[sheet]; !ok {
		return nil, Faults{{0, 0, "", fmt.Sprintf("%q is no sheet: there are users, devices, members and device_lists", sheet)}}
	}
	data = bytes.TrimPrefix(data, []byte("\uFEFF"))
	first, _, _ := bytes.Cut(data, []byte("\n"))
	rows := csv.NewReader(bytes.NewReader(data))
	rows.FieldsPerRecord = -1
	if bytes.Count(first, []byte(";")) > bytes.Count(first, []byte(",")) {
		rows.Comma = ';'
	}
	r := &csvReader{p: p, sheet: sheet, out: &Import{lines: map[lineKey]int{}}, records: map[lineKey]policy.Record{}, emails: map[string]string{}, named: map[membership]bool{}}
	if sheet == UserSheet {
		for u := range policy.Each[*policy.User](p) {
			if u.Email != "" {
				r.emails[strings.ToLower(u.Email)] = u.Key()
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
			return nil, append(r.faults, Fault{syntax.Line, syntax.Column, "", "is no CSV: " + syntax.Err.Error()})
		} else if err != nil {
			return nil, Faults{{0, 0, "", err.Error()}}
		}
		line, _ := rows.FieldPos(0)
		r.row(cells, line)
	}
	if r.head == nil {
		r.fault(1, "", "is empty: the first line names the columns: %s", strings.Join(columns[sheet], ","))
	}
	if len(r.faults) > 0 {
		return nil, r.faults
	}
	r.finish()
	return r.out, nil
}

func (r *csvReader) fault(line int, column, format string, args ...any) {
	r.faults = append(r.faults, Fault{line, 1 + max(0, slices.Index(r.head, column)), column, fmt.Sprintf(format, args...)})
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
		row[name] = strings.TrimSpace(cells[i])
	}
	switch r.sheet {
	case UserSheet:
		r.user(row, line)
	case DeviceSheet:
		r.device(row, line)
	case MemberSheet:
		r.entry(policy.UserGroups, "members", row["group"], row["user"], row, line)
	case DeviceListSheet:
		r.entry(policy.DeviceGroups, "devices", row["group"], row["device"], row, line)
	}
}

func (r *csvReader) readHead(cells []string, line int) {
	r.head = []string{}
	known := columns[r.sheet]
	for _, c := range cells {
		name := strings.ToLower(strings.TrimSpace(c))
		twice := slices.Contains(r.head, name)
		r.head = append(r.head, name)
		switch {
		case !slices.Contains(known, name):
			near := policy.Nearest(name, known)
			if near != "" {
				near = fmt.Sprintf(": did you mean %q?", near)
			} else {
				near = ": the columns are " + strings.Join(known, ", ")
			}
			r.fault(line, name, "%q is no column of %s%s", c, r.sheet, near)
		case twice:
			r.fault(line, name, "the column %q is there twice", name)
		}
	}
	needed := map[Sheet][]string{UserSheet: {"name"}, DeviceSheet: {"name"}, MemberSheet: {"group", "user"}, DeviceListSheet: {"group", "device"}}[r.sheet]
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

func (r *csvReader) user(row map[string]string, line int) {
	id := row["id"]
	if known, ok := r.emails[strings.ToLower(row["email"])]; ok && id == "" && row["email"] != "" {
		id = known // somebody who is there already, or was in a row before
	}
	if id == "" {
		id = r.idOf(policy.Users, row)
	}
	u := policy.User{ID: policy.UserID(id)}
	if now, ok := r.current(policy.Users, id); ok {
		u = *now.(*policy.User)
	}
	for name, into := range map[string]*string{"name": &u.Name, "email": &u.Email, "kind": (*string)(&u.Kind), "status": (*string)(&u.Status)} {
		if v, given := row[name]; given {
			*into = v
		}
	}
	r.instant(row, "from", line, &u.Valid.From)
	r.instant(row, "until", line, &u.Valid.Until)
	if u.Email != "" {
		r.emails[strings.ToLower(u.Email)] = id
	}
	r.put(policy.Users, id, &u, line)
	for _, g := range cellList(row["groups"]) {
		r.entry(policy.UserGroups, "members", g, id, nil, line)
	}
}

func (r *csvReader) device(row map[string]string, line int) {
	id := r.idOf(policy.Devices, row)
	d := policy.Device{ID: policy.DeviceID(id)}
	if now, ok := r.current(policy.Devices, id); ok {
		d = *now.(*policy.Device)
	}
	for name, into := range map[string]*string{"name": &d.Name, "kind": (*string)(&d.Kind), "site": (*string)(&d.Site), "state": (*string)(&d.State), "address": &d.Address} {
		if v, given := row[name]; given {
			*into = v
		}
	}
	if v, given := row["tags"]; given {
		d.Tags = cellList(v)
	}
	if v, given := row["points"]; given {
		d.Points = nil
		for _, p := range cellList(v) {
			id, name, _ := strings.Cut(p, "=")
			d.Points = append(d.Points, policy.Point{ID: policy.PointID(strings.TrimSpace(id)), Name: strings.TrimSpace(name)})
		}
	}
	r.put(policy.Devices, id, &d, line)
	for _, g := range cellList(row["groups"]) {
		r.entry(policy.DeviceGroups, "devices", g, id, nil, line)
	}
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
	if err != nil {
		r.fault(line, name, "%q %v", text, err)
		return
	}
	*into = at
}

// entry adds a user or a device to a group.
func (r *csvReader) entry(t policy.Type, field, group, id string, row map[string]string, line int) {
	if group == "" || id == "" {
		r.fault(line, "group", "names no group, or nobody to put into it")
		return
	}
	if _, ok := r.p.Get(t, group); !ok {
		column := "group"
		if row == nil {
			column = "groups"
		}
		near := r.p.Near(t, group)
		hint := ": add it first"
		if len(near) > 0 {
			hint = fmt.Sprintf(": did you mean %s?", strings.Join(near, " or "))
		}
		r.fault(line, column, "there is no %s %q%s", t.Noun(), group, hint)
		return
	}
	c := policy.Change{Op: policy.Add, Type: t, ID: group, List: field, Value: id, Member: policy.Member{User: policy.UserID(id)}}
	r.instant(row, "from", line, &c.Member.From)
	r.instant(row, "until", line, &c.Member.Until)
	r.out.lines[lineKey{t, group}] = line
	if row == nil && t == policy.UserGroups && isMember(r.p, group, id) {
		return // and stays for as long as before
	}
	// A person's rows of a group, each with a time of its own, are together what takes the place of what was there.
	named := membership{group, id}
	c.Also = t == policy.UserGroups && r.named[named]
	r.named[named] = true
	r.out.Changes = append(r.out.Changes, c)
}

type membership struct{ group, user string }

func isMember(p *policy.Policy, group, user string) bool {
	g, ok := policy.Find[*policy.UserGroup](p, group)
	return ok && slices.ContainsFunc(g.Members, func(m policy.Member) bool { return string(m.User) == user })
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

func cellList(cell string) []string {
	var out []string
	for _, e := range strings.Split(cell, listMark) {
		if e = strings.TrimSpace(e); e != "" {
			out = append(out, e)
		}
	}
	return out
}

// WriteCSV writes a sheet, so that reading it again changes nothing.
func WriteCSV(p *policy.Policy, sheet Sheet) ([]byte, error) {
	var out bytes.Buffer
	w := csv.NewWriter(&out)
	rows := [][]string{columns[sheet]}
	at := func(t time.Time) string {
		if t.IsZero() {
			return ""
		}
		return t.Format(time.RFC3339Nano)
	}
	switch sheet {
	case UserSheet:
		groups := map[policy.UserID][]string{}
		for g := range policy.Each[*policy.UserGroup](p) {
			for _, m := range g.Members {
				groups[m.User] = append(groups[m.User], g.Key())
			}
		}
		for u := range policy.Each[*policy.User](p) {
			rows = append(rows, []string{u.Key(), u.Name, u.Email, string(u.Kind), string(u.Status), at(u.Valid.From), at(u.Valid.Until), strings.Join(groups[u.ID], listMark)})
		}
	case DeviceSheet:
		groups := map[policy.DeviceID][]string{}
		for g := range policy.Each[*policy.DeviceGroup](p) {
			for _, d := range g.Devices {
				groups[d] = append(groups[d], g.Key())
			}
		}
		for d := range policy.Each[*policy.Device](p) {
			var points []string
			for _, pt := range d.Points {
				points = append(points, strings.TrimSuffix(string(pt.ID)+"="+pt.Name, "="))
			}
			rows = append(rows, []string{d.Key(), d.Name, string(d.Kind), string(d.Site), string(d.State), strings.Join(d.Tags, listMark), strings.Join(points, listMark), d.Address, strings.Join(groups[d.ID], listMark)})
		}
	case MemberSheet:
		for g := range policy.Each[*policy.UserGroup](p) {
			for _, m := range g.Members {
				rows = append(rows, []string{g.Key(), string(m.User), at(m.From), at(m.Until)})
			}
		}
	case DeviceListSheet:
		for g := range policy.Each[*policy.DeviceGroup](p) {
			for _, d := range g.Devices {
				rows = append(rows, []string{g.Key(), string(d)})
			}
		}
	default:
		return nil, fmt.Errorf("%q is no sheet: there are users, devices, members and device_lists", sheet)
	}
	if err := w.WriteAll(rows); err != nil {
		return nil, fmt.Errorf("write %s: %w", sheet, err)
	}
	return out.Bytes(), nil
}
