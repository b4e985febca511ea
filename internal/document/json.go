package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"unicode/utf8"
)

// jsonReader reads tokens and knows where each stands. It goes through the bytes once, so that what it costs grows with them.
type jsonReader struct {
	data   []byte
	tokens *json.Decoder
	faults Faults
	nodes  int // that may still come; below 0 from the beginning: any number

	at, line, column int // an offset, and where it stands
}

func newJSONReader(data []byte, nodes int) *jsonReader {
	r := &jsonReader{data: data, tokens: json.NewDecoder(bytes.NewReader(data)), nodes: nodes, line: 1, column: 1}
	r.tokens.UseNumber()
	return r
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
	if _, more := r.tokens.Token(); more != io.EOF {
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
	var syntax *json.SyntaxError
	if errors.As(err, &syntax) {
		offset = max(int(syntax.Offset)-1, 0)
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return r.faultAt(len(r.data), "is no JSON: it ends before it is complete")
	}
	return r.faultAt(offset, fmt.Sprintf("is no JSON: %v", err))
}

func (r *jsonReader) faultAt(offset int, problem string) *Fault {
	line, column := r.place(offset)
	return &Fault{line, column, "", problem}
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
func (r *jsonReader) next() (json.Token, int, int, error) {
	start := int(r.tokens.InputOffset())
	for start < len(r.data) {
		switch r.data[start] {
		case ' ', '\t', '\r', '\n', ',', ':':
			start++
			continue
		}
		break
	}
	token, err := r.tokens.Token()
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
func (r *jsonReader) valueOf(token json.Token, line, column, depth int) (*node, error) {
	if r.nodes == 0 {
		return nil, &Fault{line, column, "", "is one value too many: send less at once"}
	}
	r.nodes--
	n := &node{line: line, column: column}
	switch t := token.(type) {
	case nil:
	case bool:
		n.kind, n.scalar = boolean, "false"
		if t {
			n.scalar = "true"
		}
	case json.Number:
		n.kind, n.scalar = number, t.String()
	case string:
		n.kind, n.scalar = text, t
	case json.Delim:
		if depth == maxDepth {
			return nil, &Fault{line, column, "", fmt.Sprintf("lies more than %d levels deep", maxDepth)}
		}
		if t == '[' {
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
	for r.tokens.More() {
		item, err := r.value(depth + 1)
		if err != nil {
			return err
		}
		visit(item)
	}
	_, err := r.tokens.Token()
	return err
}

func (r *jsonReader) members(n *node, depth int) error {
	for r.tokens.More() {
		key, line, column, err := r.next()
		if err != nil {
			return err
		}
		value, err := r.value(depth + 1)
		if err != nil {
			return err
		}
		n.fields = append(n.fields, field{key.(string), line, column, value})
	}
	_, err := r.tokens.Token()
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
	out := d.plain(root, "")
	if len(d.faults) > 0 {
		return nil, d.faults.sorted()
	}
	return out, nil
}

func (d *decoder) plain(n *node, path string) any {
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
			out[i] = d.plain(item, fmt.Sprintf("%s[%d]", path, i))
		}
		return out
	case object:
		d.twice(n, path)
		out := make(map[string]any, len(n.fields))
		for _, f := range n.fields {
			out[f.name] = d.plain(f.value, join(path, f.name))
		}
		return out
	}
	return nil
}
