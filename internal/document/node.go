// Package document reads and writes the formats that people and programs exchange with the service:
// policy documents, expectations, and times as they are typed. What it reads it reads strictly, and it
// names every fault at once, each with its line, its column and the path of the field.
package document

import (
	"bytes"
	"fmt"
	"sort"
	"strings"
	"unicode/utf8"

	"sentier/internal/policy"
)

// Fault is one thing that is wrong with a document.
type Fault struct {
	Line, Column int    // from 1; 0 where the fault has no place
	Path         string // grants[3].lines[0].when[0]; empty: the document as a whole
	Problem      policy.Said
}

func (f Fault) String() string {
	s := f.Problem.Error()
	if f.Path != "" {
		s = f.Path + ": " + s
	}
	if f.Line > 0 {
		s = fmt.Sprintf("%d:%d: %s", f.Line, f.Column, s)
	}
	return s
}

// Faults are all that is wrong with a document, in the order of their places; as an error, one line each.
type Faults []Fault

func (fs Faults) Error() string {
	lines := make([]string, len(fs))
	for i, f := range fs {
		lines[i] = f.String()
	}
	return strings.Join(lines, "\n")
}

func (fs Faults) sorted() Faults {
	sort.SliceStable(fs, func(i, j int) bool {
		return fs[i].Line < fs[j].Line || fs[i].Line == fs[j].Line && fs[i].Column < fs[j].Column
	})
	return fs
}

// nodeKind is what stands at a place of a document.
type nodeKind uint8

const (
	null nodeKind = iota
	boolean
	number
	text
	list
	object
)

var kindNames = [...]string{"nothing", "true or false", "a number", "a text", "a list", "an object"}

func (k nodeKind) String() string { return kindNames[k] }

// node is a value of a document with its place.
type node struct {
	kind         nodeKind
	scalar       string // as written, for boolean, number and text
	loose        bool   // an unquoted number of YAML, which is a text where a text belongs
	items        []*node
	fields       []field
	line, column int
}

type field struct {
	name         string
	line, column int
	value        *node
}

// maxDepth bounds how deep lists and objects lie in one another.
const maxDepth = 64

// plainText takes a byte order mark off a text, and faults one that is no UTF-8.
func plainText(data []byte) ([]byte, Faults) {
	data = bytes.TrimPrefix(data, []byte("\uFEFF"))
	if utf8.Valid(data) {
		return data, nil
	}
	line, column := 1, 1
	for rest := data; len(rest) > 0; {
		r, n := utf8.DecodeRune(rest)
		if r == utf8.RuneError && n == 1 {
			break
		}
		if r == '\n' {
			line, column = line+1, 0
		}
		column++
		rest = rest[n:]
	}
	return nil, Faults{{line, column, "", policy.Say("holds bytes that are no UTF-8: save the file as UTF-8")}}
}

// looksLikeJSON tells whether a document of either syntax begins as JSON does.
func looksLikeJSON(data []byte) bool {
	return bytes.HasPrefix(bytes.TrimLeft(bytes.TrimPrefix(data, []byte("\uFEFF")), " \t\r\n"), []byte("{"))
}

// parse reads JSON or YAML into a tree; what begins with a brace is JSON.
func parse(data []byte) (*node, Faults) {
	if looksLikeJSON(data) {
		return parseJSON(data, -1)
	}
	data, faults := plainText(data)
	if len(faults) > 0 {
		return nil, faults
	}
	return parseYAML(data)
}

// locate finds the place of a path, or of the nearest thing around it that is there.
func (n *node) locate(path string) (line, column int) {
	line, column = n.line, n.column
	for path != "" {
		var next *node
		if strings.HasPrefix(path, "[") {
			index, rest, _ := strings.Cut(path[1:], "]")
			i := 0
			if _, err := fmt.Sscanf(index, "%d", &i); err != nil || n.kind != list || i >= len(n.items) {
				return line, column
			}
			next, path = n.items[i], rest
			line, column = next.line, next.column
		} else {
			path = strings.TrimPrefix(path, ".")
			// A limit's name may hold dots: take the longest field that fits.
			best := -1
			for i, f := range n.fields {
				rest, ok := strings.CutPrefix(path, f.name)
				if ok && (rest == "" || rest[0] == '.' || rest[0] == '[') && (best < 0 || len(f.name) > len(n.fields[best].name)) {
					best = i
				}
			}
			if best < 0 {
				return line, column
			}
			f := n.fields[best]
			next, path = f.value, path[len(f.name):]
			line, column = next.line, next.column
			if next.kind == null || next.kind >= list {
				line, column = f.line, f.column
			}
		}
		n = next
	}
	return line, column
}
