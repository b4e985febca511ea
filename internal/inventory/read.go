// Package inventory reads lists of devices and sites that are kept elsewhere: sheets in CSV (RFC 4180), and JSON lines. It knows nothing of which of them are here.
package inventory

import (
	"bufio"
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/source"
	"sentier/internal/strict"
)

// Bounds of what is read.
const (
	mostThings = 200_000
	mostLine   = 1 << 20 // bytes of a line of JSON
	mostText   = 1000    // characters of a value
)

// Formats in which a list can be written.
const (
	CSV   = "csv"
	JSONL = "jsonl"
)

// Fields are those that a list can have, by our names: type tells sites from devices, and parent is of sites.
var Fields = []string{"type", "id", "name", "kind", "site", "tags", "address", "parent", "zone"}

// Check finds what is wrong with how a list is written; see [source.Inventory].
func Check(in *source.Inventory) (field string, problem *policy.Said) {
	if in.Format != CSV && in.Format != JSONL {
		return "format", policy.Complain("%q is none of csv and jsonl", policy.Clip(in.Format))
	}
	for ours, theirs := range in.Columns {
		if !slices.Contains(Fields, ours) {
			return "columns", policy.Complain("%q is no field of a list: there are %s", policy.Clip(ours), policy.Names(Fields))
		}
		if strings.TrimSpace(theirs) == "" {
			return "columns", policy.Complain("%q has no name there", ours)
		}
	}
	return "", nil
}

// Read reads a list. What is wrong with single things is told, each with its line; the error is that it cannot be read at all.
func Read(text []byte, in *source.Inventory) (*source.Held, error) {
	r := reader{in: in, seen: map[thing]int{}}
	text = bytes.TrimPrefix(text, []byte("\xef\xbb\xbf"))
	if !utf8.Valid(text) {
		return nil, outbound.Fault(nil, "it is not written in UTF-8")
	}
	read := r.lines
	if in.Format == CSV {
		read = r.sheet
	}
	if err := read(text); err != nil {
		return nil, err
	}
	return &r.held, nil
}

type thing struct {
	t       policy.Type
	outside string
}

type reader struct {
	in   *source.Inventory
	held source.Held
	seen map[thing]int // the line of each
}

// column is how a field is called there.
func (r *reader) column(ours string) string {
	if theirs := r.in.Columns[ours]; theirs != "" {
		return strings.TrimSpace(theirs)
	}
	return ours
}

func (r *reader) tell(line int, form string, args ...any) {
	r.held.Told = append(r.held.Told, source.Problem{Place: fmt.Sprintf("line %d", line), Why: policy.Say(form, args...)})
}

// sheet reads CSV: the first line names the columns.
func (r *reader) sheet(text []byte) error {
	from := csv.NewReader(bytes.NewReader(text))
	from.FieldsPerRecord, from.TrimLeadingSpace, from.ReuseRecord = -1, true, true
	if head, _, _ := bytes.Cut(text, []byte("\n")); bytes.Count(head, []byte(";")) > bytes.Count(head, []byte(",")) {
		from.Comma = ';'
	}
	head, err := from.Read()
	if errors.Is(err, io.EOF) {
		return outbound.Fault(nil, "there is nothing in it: the first line names the columns")
	}
	at := map[string]int{}
	for _, field := range Fields {
		at[field] = slices.IndexFunc(head, func(name string) bool {
			return policy.FoldName(name) == policy.FoldName(r.column(field))
		})
	}
	if err == nil && at["id"] < 0 {
		return outbound.Fault(nil, "there is no column %q, by which things would be known again; there are %s", r.column("id"), policy.Names(slices.Clone(head)))
	}
	for err == nil {
		var row []string
		if row, err = from.Read(); err != nil {
			break
		}
		line, _ := from.FieldPos(0)
		values := map[string]string{}
		for field, i := range at {
			if i >= 0 && i < len(row) {
				values[field] = row[i]
			}
		}
		if err := r.take(line, values, strings.Split(values["tags"], "|")); err != nil {
			return err
		}
	}
	var wrong *csv.ParseError
	if errors.As(err, &wrong) {
		return outbound.Fault(err, "line %d cannot be read: a quotation mark is not closed, or stands within a value", wrong.Line)
	}
	if !errors.Is(err, io.EOF) {
		return outbound.Fault(err, "it cannot be read to its end: %s", outbound.Reason(err))
	}
	return nil
}

// lines reads JSON lines: an object a line.
func (r *reader) lines(text []byte) error {
	lines := bufio.NewScanner(bytes.NewReader(text))
	lines.Buffer(nil, mostLine)
	for n := 1; lines.Scan(); n++ {
		line := bytes.TrimSpace(lines.Bytes())
		if len(line) == 0 {
			continue
		}
		var row map[string]any
		if err := strict.ReadOpen(line, &row); err != nil || row == nil {
			return outbound.Fault(err, "line %d is no JSON object: a list is written as one object a line", n)
		}
		values := map[string]string{}
		var tags []string
		for _, field := range Fields {
			switch v := row[r.column(field)].(type) {
			case nil:
			case string:
				values[field] = v
			case float64, bool:
				values[field] = fmt.Sprint(v)
			case []any:
				for _, x := range v {
					if text, ok := x.(string); ok && field == "tags" {
						tags = append(tags, text)
						continue
					}
					r.tell(n, "%s holds a list that is none of texts: it is passed over", r.column(field))
				}
			default:
				r.tell(n, "%s holds an object: it is passed over", r.column(field))
			}
		}
		if tags == nil {
			tags = strings.Split(values["tags"], "|")
		}
		if err := r.take(n, values, tags); err != nil {
			return err
		}
	}
	if err := lines.Err(); err != nil {
		return outbound.Fault(err, "a line of it is longer than %d kB", mostLine>>10)
	}
	return nil
}

// take takes one thing.
func (r *reader) take(line int, values map[string]string, tags []string) error {
	for field, v := range values {
		if v = source.Plain(v); len([]rune(v)) > mostText {
			r.tell(line, "%s is longer than %d characters: it is cut", r.column(field), mostText)
			v = string([]rune(v)[:mostText])
		}
		values[field] = v
	}
	t := source.Thing{Type: policy.Devices, Line: line, Outside: values["id"], Name: values["name"], Kind: values["kind"], Site: values["site"], Address: values["address"]}
	switch kind := policy.FoldName(values["type"]); kind {
	case "", "device":
	case "site":
		t = source.Thing{Type: policy.Sites, Line: line, Outside: values["id"], Name: values["name"], Site: values["parent"], Zone: values["zone"]}
	default:
		r.tell(line, "%q is neither a device nor a site: it is passed over", policy.Clip(values["type"]))
		return nil
	}
	if t.Type == policy.Devices {
		for _, tag := range tags {
			if tag = source.Plain(tag); tag != "" && !slices.Contains(t.Tags, tag) {
				t.Tags = append(t.Tags, tag)
			}
		}
		slices.Sort(t.Tags)
	}
	if t.Outside == "" {
		r.tell(line, "it has no %s, by which it would be known again", r.column("id"))
		return nil
	}
	key := thing{t.Type, t.Outside}
	if first, twice := r.seen[key]; twice {
		r.tell(line, "%q stands on line %d already: that counts", policy.Clip(t.Outside), first)
		return nil
	}
	if r.seen[key] = line; len(r.seen) > mostThings {
		return outbound.Fault(nil, "there are more than %d things in it", mostThings)
	}
	r.held.Things = append(r.held.Things, t)
	return nil
}
