package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"sentier/internal/policy"
)

// jsonReader reads tokens and knows where each stands. It goes through the bytes once, so that what it costs grows with them.
type jsonReader struct {
	data   []byte
	tokens *jsontext.Decoder
	faults Faults
	nodes  int // that may still come; below 0 from the beginning: any number

	at, line, column int // an offset, and where it stands
}

func newJSONReader(data []byte, nodes int) *jsonReader {
	// A buffer is read where it lies. Names given twice are faults of ours, with their places.
	tokens := jsontext.NewDecoder(bytes.NewBuffer(data), jsontext.AllowDuplicateNames(true))
	return &jsonReader{data: data, tokens: tokens, nodes: nodes, line: 1, column: 1}
}

// more tells whether the list or object goes on; an error that comes next is one that does.
func (r *jsonReader) more() bool {
	kind := r.tokens.PeekKind()
	return kind != ']' && kind != '}'
}

// parseJSON reads a JSON value as a tree of at most so many nodes, any number where that is below 0.
func parseJSON(data []byte, nodes int) (*node, Faults) {
	data, faults := plainText(data)
	if len(faults) > 0 {
		return nil, faults
	}
	r := newJSONReader(data, nodes)
	n, err := r.value(0)
	if err == nil {
		err = r.end()
	}
	if err != nil {
		return nil, r.failed(err)
	}
	return n, r.faults
}

// end makes sure that nothing follows.
func (r *jsonReader) end() error {
	if _, more := r.tokens.ReadToken(); more != io.EOF {
		return r.faultAt(int(r.tokens.InputOffset()), "more follows after the end of the document: take it out")
	}
	return nil
}

// failed are the faults of a reading that an error ended.
func (r *jsonReader) failed(err error) Faults {
	var fault *Fault
	if errors.As(err, &fault) {
		return append(r.faults, *fault)
	}
	return append(r.faults, *r.syntax(err))
}

// Error makes a fault that ends the reading an error.
func (f *Fault) Error() string { return f.String() }

func (r *jsonReader) syntax(err error) *Fault {
	offset := int(r.tokens.InputOffset())
	var syntax *jsontext.SyntacticError
	if errors.As(err, &syntax) {
		offset, err = int(syntax.ByteOffset), syntax.Err
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return r.faultAt(len(r.data), "is no JSON: it ends before it is complete")
	}
	return r.faultAt(offset, "is no JSON: %v", err)
}

func (r *jsonReader) faultAt(offset int, form string, args ...any) *Fault {
	line, column := r.place(offset)
	return &Fault{line, column, "", policy.Say(form, args...)}
}

// place counts on from the place before; a place further back, which only the last fault can have, is counted from the beginning.
func (r *jsonReader) place(offset int) (line, column int) {
	offset = min(offset, len(r.data))
	if offset < r.at {
		r.at, r.line, r.column = 0, 1, 1
	}
	part := r.data[r.at:offset]
	if n := bytes.Count(part, []byte{'\n'}); n > 0 {
		r.line, r.column = r.line+n, 1
		part = part[bytes.LastIndexByte(part, '\n')+1:]
	}
	r.column += utf8.RuneCount(part)
	r.at = offset
	return r.line, r.column
}

// next reads a token and its place.
func (r *jsonReader) next() (jsontext.Token, int, int, error) {
	start := int(r.tokens.InputOffset())
	for start < len(r.data) {
		switch r.data[start] {
		case ' ', '\t', '\r', '\n', ',', ':':
			start++
			continue
		}
		break
	}
	token, err := r.tokens.ReadToken()
	line, column := r.place(start)
	return token, line, column, err
}

func (r *jsonReader) value(depth int) (*node, error) {
	token, line, column, err := r.next()
	if err != nil {
		return nil, err
	}
	return r.valueOf(token, line, column, depth)
}

// valueOf reads the value that begins with a token.
func (r *jsonReader) valueOf(token jsontext.Token, line, column, depth int) (*node, error) {
	if r.nodes == 0 {
		return nil, &Fault{line, column, "", policy.Say("is one value too many: send less at once")}
	}
	r.nodes--
	n := &node{line: line, column: column}
	switch kind := token.Kind(); kind {
	case 't', 'f':
		n.kind, n.scalar = boolean, token.String()
	case '0':
		n.kind, n.scalar = number, token.String()
	case '"':
		n.kind, n.scalar = text, token.String()
	case '[', '{':
		if depth == maxDepth {
			return nil, &Fault{line, column, "", policy.Say("lies more than %d levels deep", maxDepth)}
		}
		if kind == '[' {
			n.kind = list
			return n, r.items(depth, func(item *node) { n.items = append(n.items, item) })
		}
		n.kind = object
		return n, r.members(n, depth)
	}
	return n, nil
}

// items reads the items of a list that has begun, and hands each on.
func (r *jsonReader) items(depth int, visit func(*node)) error {
	for r.more() {
		item, err := r.value(depth + 1)
		if err != nil {
			return err
		}
		visit(item)
	}
	_, err := r.tokens.ReadToken()
	return err
}

func (r *jsonReader) members(n *node, depth int) error {
	for r.more() {
		key, line, column, err := r.next()
		if err != nil {
			return err
		}
		name := key.String() // what a token holds is gone with the next
		value, err := r.value(depth + 1)
		if err != nil {
			return err
		}
		n.fields = append(n.fields, field{name, line, column, value})
	}
	_, err := r.tokens.ReadToken()
	return err
}

// ReadJSON reads any JSON value strictly: a name that is given twice is a fault, which the standard library would not see. Numbers
// stay as they were written.
func ReadJSON(data []byte) (any, error) {
	root, faults := parseJSON(data, mostNodes)
	if root == nil {
		return nil, faults
	}
	d := &decoder{faults: faults}
	out := d.plain(root, nil)
	if len(d.faults) > 0 {
		return nil, d.faults.sorted()
	}
	return out, nil
}

func (d *decoder) plain(n *node, at *place) any {
	switch n.kind {
	case boolean:
		return n.scalar == "true"
	case number:
		return json.Number(n.scalar)
	case text:
		return n.scalar
	case list:
		out := make([]any, len(n.items))
		for i, item := range n.items {
			out[i] = d.plain(item, at.item(i))
		}
		return out
	case object:
		d.twice(n, at)
		out := make(map[string]any, len(n.fields))
		for _, f := range n.fields {
			out[f.name] = d.plain(f.value, at.field(f.name))
		}
		return out
	}
	return nil
}
