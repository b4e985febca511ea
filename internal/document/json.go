package document

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
	"unicode/utf8"
)

// jsonReader reads tokens and knows where each stands.
type jsonReader struct {
	data   []byte
	tokens *json.Decoder
	lines  []int // offsets at which lines begin
	faults Faults
}

func parseJSON(data []byte) (*node, Faults) {
	r := &jsonReader{data: data, tokens: json.NewDecoder(bytes.NewReader(data)), lines: []int{0}}
	r.tokens.UseNumber()
	for i, b := range data {
		if b == '\n' {
			r.lines = append(r.lines, i+1)
		}
	}
	n, err := r.value(0)
	if err == nil {
		if _, more := r.tokens.Token(); more != io.EOF {
			err = r.faultAt(int(r.tokens.InputOffset()), "more follows after the end of the document: take it out")
		}
	}
	var fault *Fault
	switch {
	case err == nil:
		return n, r.faults
	case errors.As(err, &fault):
		return nil, append(r.faults, *fault)
	}
	return nil, append(r.faults, *r.syntax(err))
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

func (r *jsonReader) place(offset int) (line, column int) {
	line = sort.SearchInts(r.lines, offset+1)
	return line, 1 + utf8.RuneCount(r.data[r.lines[line-1]:min(offset, len(r.data))])
}

// next reads a token and its place.
func (r *jsonReader) next() (json.Token, int, int, error) {
	start := int(r.tokens.InputOffset())
	for start < len(r.data) && bytes.IndexByte([]byte(" \t\r\n,:"), r.data[start]) >= 0 {
		start++
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
	n := &node{line: line, column: column}
	switch t := token.(type) {
	case nil:
	case bool:
		n.kind, n.scalar = boolean, fmt.Sprint(t)
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
			return n, r.items(n, depth)
		}
		n.kind = object
		return n, r.members(n, depth)
	}
	return n, nil
}

func (r *jsonReader) items(n *node, depth int) error {
	for r.tokens.More() {
		item, err := r.value(depth + 1)
		if err != nil {
			return err
		}
		n.items = append(n.items, item)
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
