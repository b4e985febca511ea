package document

import (
	"bytes"
	"errors"
	"fmt"
	"reflect"
	"regexp"
	"slices"
	"strings"

	"sentier/internal/policy"
)

// ReadPolicy reads a policy document, JSON or YAML, as it looks. The error is of type [Faults].
func ReadPolicy(data []byte) (*policy.Policy, error) { return ReadPolicyAs(data, "", nil) }

// ReadPolicyAs reads a policy document of a syntax; an empty one is the one that the document looks like. It goes through the
// document record by record, so that it needs little room beside the document and the records, and shares with like (nil: nothing) the
// records that are the same there. The error is of type [Faults].
func ReadPolicyAs(data []byte, syntax Syntax, like *policy.Policy) (*policy.Policy, error) {
	if syntax == "" {
		syntax = SyntaxOf(data)
	}
	data, faults := plainText(data)
	if len(faults) > 0 {
		return nil, faults
	}
	r := &policyReader{syntax: syntax, data: data, built: policy.NewBuilder(like), seen: map[string]int{}, places: map[policy.Type][]spot{}}
	if syntax == JSON {
		r.readJSON()
	} else {
		r.readYAML()
	}
	if r.stopped {
		return nil, r.all()
	}
	r.checkFormat()
	p, err := r.built.Policy()
	var more policy.Faults
	if errors.As(err, &more) {
		for _, f := range more {
			if slices.ContainsFunc(r.faults, func(have Fault) bool { return have.Path == f.Path() }) {
				continue // a field that could not be read is empty, and that is no second fault
			}
			if len(r.faults) >= mostFaults {
				break
			}
			line, column := r.locate(f)
			r.faults = append(r.faults, Fault{line, column, f.Path(), f.Problem})
		}
	}
	if len(r.faults) > 0 {
		return nil, r.all()
	}
	return p, nil
}

// SyntaxOf is the syntax that a document looks like.
func SyntaxOf(data []byte) Syntax {
	if looksLikeJSON(data) {
		return JSON
	}
	return YAML
}

// mostFaults is how many faults of a document are told: who has more mends those first.
const mostFaults = 1000

// policyReader reads a policy document record by record.
type policyReader struct {
	decoder
	syntax   Syntax
	data     []byte
	built    *policy.Builder
	format   *node
	settings *node
	first    *node                  // where the document begins
	seen     map[string]int         // lines of the fields of the document
	places   map[policy.Type][]spot // of the records of each list
	stopped  bool
}

// spot is where a record stands.
type spot struct {
	offset, end  int   // of its text; offset below 0: it was read with others
	before       int32 // lines before the text
	line, column int32
}

func (r *policyReader) all() Faults {
	out := r.faults.sorted()
	if len(out) > mostFaults {
		out = append(out[:mostFaults:mostFaults], Fault{0, 0, "", policy.Say("%d more faults are not told: mend these first", len(out)-mostFaults)})
	}
	return out
}

func (r *policyReader) stop(faults Faults) {
	r.stopped = true
	r.faults = append(r.faults, faults...)
}

func (r *policyReader) checkFormat() {
	if r.first == nil {
		r.first = &node{kind: object, line: 1, column: 1}
	}
	r.decoder.format(r.first, r.format, PolicyFormat)
}

// field finds the type whose records a field of the document lists; valid is false where there is none, with its fault.
func (r *policyReader) field(name string, line, column int) (t policy.Type, valid bool) {
	at, where := &node{line: line, column: column}, (*place)(nil).field(name)
	if before, twice := r.seen[name]; twice {
		r.fault(at, where, "is given twice, first on line %d: keep one", before)
		return t, false
	}
	r.seen[name] = line
	if t, ok := policy.TypeNamed(name); ok {
		return t, true
	}
	known := []string{"format", policy.SettingsType.String()}
	for _, t := range policy.Types() {
		known = append(known, t.String())
	}
	if near := policy.Nearest(name, known); near != "" {
		r.fault(at, where, "is not known here: did you mean %q?", near)
	} else {
		r.fault(at, where, "is not known here: the fields are %s", strings.Join(known, ", "))
	}
	return t, false
}

// item takes the next record of a list.
func (r *policyReader) item(t policy.Type, n *node, at spot) {
	if len(r.faults) > mostFaults {
		return
	}
	r.places[t] = append(r.places[t], at)
	in := place{name: t.String()}
	where := place{in: &in, index: len(r.places[t]) - 1}
	if n.kind == null {
		r.fault(n, &where, "is empty: take it out, or give it a value")
	}
	record := policy.New(t)
	r.decode(n, reflect.ValueOf(record).Elem(), &where)
	r.built.Add(record)
}

// whole decodes a field of the document that was read in one piece.
func (r *policyReader) whole(t policy.Type, n *node) {
	where := (*place)(nil).field(t.String())
	switch {
	case n.kind == null:
	case t == policy.SettingsType:
		r.settings = n
		settings := &policy.Settings{}
		r.decode(n, reflect.ValueOf(settings).Elem(), where)
		r.built.Add(settings)
	case r.want(n, list, where):
		for _, item := range n.items {
			r.item(t, item, spot{offset: -1, line: int32(item.line), column: int32(item.column)})
		}
	}
}

// readJSON reads a JSON document token by token.
func (r *policyReader) readJSON() {
	in := newJSONReader(r.data, -1)
	token, line, column, err := in.next()
	if err == nil && token.Kind() != '{' {
		var n *node
		if n, err = in.valueOf(token, line, column, 0); err == nil {
			r.want(n, object, nil)
			r.stopped = true
			return
		}
	}
	r.first = &node{kind: object, line: line, column: column}
	for err == nil && in.more() {
		err = r.member(in)
	}
	if err == nil {
		_, err = in.tokens.ReadToken()
	}
	if err == nil {
		err = in.end()
	}
	if err != nil {
		r.stop(in.failed(err))
	}
}

func (r *policyReader) member(in *jsonReader) error {
	key, line, column, err := in.next()
	if err != nil {
		return err
	}
	name := key.String()
	token, l, c, err := in.next()
	if err != nil {
		return err
	}
	t, valid := r.list(name, line, column)
	if token.Kind() == '[' && valid && t != policy.SettingsType {
		for in.more() {
			token, line, column, err := in.next()
			if err != nil {
				return err
			}
			at := spot{offset: in.at, line: int32(line), column: int32(column)}
			n, err := in.valueOf(token, line, column, 2)
			if err != nil {
				return err
			}
			r.item(t, n, at)
		}
		_, err := in.tokens.ReadToken()
		return err
	}
	n, err := in.valueOf(token, l, c, 1)
	if err == nil {
		r.other(name, t, valid, n)
	}
	return err
}

// list is [policyReader.field] for all fields but the format.
func (r *policyReader) list(name string, line, column int) (policy.Type, bool) {
	if _, twice := r.seen[name]; name == "format" && !twice {
		r.seen[name] = line
		return 0, false
	}
	return r.field(name, line, column)
}

// other takes a field of the document that is no list of records read one by one.
func (r *policyReader) other(name string, t policy.Type, valid bool, n *node) {
	switch {
	case name == "format" && r.format == nil:
		r.format = n
	case valid:
		r.whole(t, n)
	}
}

// topField is a line that begins a field of a YAML document.
var topField = regexp.MustCompile(`^([A-Za-z_][A-Za-z0-9_]*|'[A-Za-z0-9_]+'|"[A-Za-z0-9_]+")[ \t]*:(?:[ \t]|$)`)

// section is a field of a YAML document with its lines.
type section struct {
	name         string
	begin, end   int // offsets
	line         int // of its first
	entries      []int
	entriesLines []int
	indent       int // of the entries; -1: it is no list in block style
}

// readYAML parts the document into its fields and their entries by their indentation, and has the library read each part.
// A document that is written otherwise is read in one piece.
func (r *policyReader) readYAML() {
	sections, ok := sectionsOf(r.data)
	if !ok {
		root, faults := parseYAML(r.data)
		r.faults = append(r.faults, faults...)
		if root == nil {
			r.stopped = true
			return
		}
		r.first = root
		if !r.want(root, object, nil) {
			r.stopped = true
			return
		}
		for _, f := range root.fields {
			t, valid := r.list(f.name, f.line, f.column)
			r.other(f.name, t, valid, f.value)
		}
		return
	}
	if len(sections) == 0 {
		r.stop(Faults{{1, 1, "", policy.Say("is empty")}})
		return
	}
	r.first = &node{kind: object, line: sections[0].line, column: 1}
	for _, s := range sections {
		t, valid := r.list(s.name, s.line, 1)
		if s.indent < 0 || !valid || t == policy.SettingsType {
			n, faults := parseYAMLPart(r.data[s.begin:s.end], s.line-1)
			if n == nil {
				r.stop(faults)
				return
			}
			r.faults = append(r.faults, faults...)
			r.other(s.name, t, valid, n.fields[0].value)
			continue
		}
		if !r.entries(s, t) {
			return
		}
	}
}

// partSize is about how many bytes of entries the library is given at once.
const partSize = 32 << 10

// entries reads the entries of a list in block style, some at a time.
func (r *policyReader) entries(s section, t policy.Type) bool {
	for i := 0; i < len(s.entries); {
		k := i + 1
		for k < len(s.entries) && s.entries[k]-s.entries[i] < partSize {
			k++
		}
		end := s.end
		if k < len(s.entries) {
			end = s.entries[k]
		}
		part := r.data[s.entries[i]:end]
		if k == i+1 && manyFields(part) {
			r.stop(Faults{{s.entriesLines[i], 1, fmt.Sprintf("%s[%d]", s.name, i), policy.Say("has an object of more than %d fields: no record has as many", mostFields)}})
			return false
		}
		n, faults := parseYAMLPart(part, s.entriesLines[i]-1)
		if n == nil {
			r.stop(faults)
			return false
		}
		r.faults = append(r.faults, faults...)
		if n.kind != list || len(n.items) != k-i {
			r.stop(Faults{{s.entriesLines[i], 1, s.name, policy.Say("cannot be told apart into its entries: give each a line begun with “- ”, all with the same indentation")}})
			return false
		}
		for _, item := range n.items {
			at := spot{s.entries[i], s.end, int32(s.entriesLines[i] - 1), int32(item.line), int32(item.column)}
			if i+1 < len(s.entries) {
				at.end = s.entries[i+1]
			}
			r.item(t, item, at)
			i++
		}
	}
	return true
}

// sectionsOf parts a YAML document; ok is false where it is not written in block style at the top.
func sectionsOf(data []byte) (out []section, ok bool) {
	var now *section
	line := 0
	for at := 0; at < len(data); {
		line++
		next := len(data)
		if i := bytes.IndexByte(data[at:], '\n'); i >= 0 {
			next = at + i + 1
		}
		text := bytes.TrimRight(data[at:next], "\r\n")
		begin := at
		at = next
		bare := bytes.TrimLeft(text, " ")
		indent := len(text) - len(bare)
		switch {
		case len(bare) == 0 || bare[0] == '#':
			continue
		case bare[0] == '\t':
			return nil, false
		case indent == 0 && bare[0] != '-':
			m := topField.FindSubmatch(text)
			if m == nil {
				return nil, false
			}
			out = append(out, section{name: strings.Trim(string(m[1]), `'"`), begin: begin, line: line, indent: -1})
			now = &out[len(out)-1]
			now.end = len(data)
			if n := len(out); n > 1 {
				out[n-2].end = begin
			}
			if rest := bytes.TrimLeft(text[len(m[0]):], " \t"); len(rest) == 0 || rest[0] == '#' {
				now.indent = -2 // what comes says what it is
			}
		case string(text) == "---" && now == nil:
		case now == nil:
			return nil, false
		case now.indent == -1: // goes on
			if indent == 0 {
				return nil, false
			}
		case bare[0] == '-' && (len(bare) == 1 || bare[1] == ' ') && (now.indent == -2 || indent == now.indent):
			now.indent = indent
			now.entries, now.entriesLines = append(now.entries, begin), append(now.entriesLines, line)
		case now.indent == -2: // an object
			now.indent = -1
		case indent <= now.indent:
			return nil, false
		}
	}
	for i := range out {
		if out[i].indent == -2 {
			out[i].indent = -1
		}
	}
	return out, true
}

// locate finds the place of a fault in a record: the record is read once more.
func (r *policyReader) locate(f policy.Fault) (line, column int) {
	if f.Type == policy.SettingsType && r.settings != nil {
		return r.settings.locate(f.Field)
	}
	if f.Index < 0 || f.Index >= len(r.places[f.Type]) {
		return r.first.line, r.first.column
	}
	at := r.places[f.Type][f.Index]
	line, column = int(at.line), int(at.column)
	var n *node
	switch {
	case r.syntax == JSON:
		in := newJSONReader(r.data[at.offset:], -1)
		in.line, in.column = line, column
		if found, err := in.value(2); err == nil {
			n = found
		}
	case at.offset >= 0:
		if part, _ := parseYAMLPart(r.data[at.offset:at.end], int(at.before)); part != nil && len(part.items) == 1 {
			n = part.items[0]
		}
	default:
		if root, _ := parseYAML(r.data); root != nil {
			return root.locate(f.Path())
		}
	}
	if n == nil || f.Field == "" {
		return line, column
	}
	return n.locate(f.Field)
}
