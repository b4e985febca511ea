package document

import (
	"bytes"
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"

	"sentier/internal/policy"
)

// yamlReader turns the syntax tree of the YAML library into ours.
type yamlReader struct {
	faults Faults
	lines  int // before the text that is read, where it is a part of one
}

// mostWhole bounds, in bytes, the YAML that is parsed in one go: what the library makes of it takes a hundred times as much.
const mostWhole = 4 << 20

func parseYAML(data []byte) (n *node, faults Faults) { return parseYAMLPart(data, 0) }

// parseYAMLPart reads a part of a text, before which there are so many lines.
func parseYAMLPart(data []byte, lines int) (n *node, faults Faults) {
	if len(data) > mostWhole {
		return nil, Faults{{lines + 1, 1, "", policy.Say("is too large to be read in one piece (%d bytes): write each list in block style, an entry a line begun with “- ”, or the document as JSON", len(data))}}
	}
	if manyFields(data) {
		return nil, Faults{{lines + 1, 1, "", policy.Say("has an object of more than %d fields: no record has as many", mostFields)}}
	}
	file, err := parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var syntax *yaml.SyntaxError
		if errors.As(err, &syntax) && syntax.Token != nil {
			p := syntax.Token.Position
			return nil, Faults{{p.Line + lines, p.Column, "", policy.Say("is no YAML: %s", syntax.Message)}}
		}
		return nil, Faults{{0, 0, "", policy.Say("is no YAML: %v", err)}}
	}
	r := &yamlReader{lines: lines}
	var body ast.Node
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		if body != nil {
			line, column := r.place(doc.Body)
			return nil, Faults{{line, column, "", policy.Say("is a second document in one file: keep one")}}
		}
		body = doc.Body
	}
	if body == nil {
		return nil, Faults{{1, 1, "", policy.Say("is empty")}}
	}
	n = r.value(body, 0)
	return n, r.faults
}

// mostFields bounds the fields of one object: what the library takes for one grows with their square.
const mostFields = 2000

// manyFields tells whether an object of a text may have more fields than are read: lines of one indentation that begin one each,
// and commas within braces.
func manyFields(data []byte) bool {
	if bytes.Count(data, []byte{':'}) <= mostFields {
		return false
	}
	var byIndent, inBraces []int
	for line := range bytes.Lines(data) {
		bare := bytes.TrimLeft(line, " ")
		indent := len(line) - len(bare)
		for len(bare) > 1 && bare[0] == '-' && bare[1] == ' ' { // an entry of a list begins its objects anew
			byIndent = byIndent[:min(len(byIndent), indent+1)]
			rest := bytes.TrimLeft(bare[1:], " ")
			indent += len(bare) - len(rest)
			bare = rest
		}
		if len(bare) > 1 && bytes.IndexByte(bare, ':') > 0 {
			byIndent = byIndent[:min(len(byIndent), indent+1)]
			for len(byIndent) <= indent {
				byIndent = append(byIndent, 0)
			}
			if byIndent[indent]++; byIndent[indent] > mostFields {
				return true
			}
		}
		for _, b := range bare {
			switch last := len(inBraces) - 1; {
			case b == '{':
				inBraces = append(inBraces, 0)
			case b == '}' && last >= 0:
				inBraces = inBraces[:last]
			case b == ',' && last >= 0:
				if inBraces[last]++; inBraces[last] > mostFields {
					return true
				}
			}
		}
	}
	return false
}

func (r *yamlReader) place(n ast.Node) (line, column int) {
	if t := n.GetToken(); t != nil && t.Position != nil {
		return t.Position.Line + r.lines, t.Position.Column
	}
	return 0, 0
}

func (r *yamlReader) value(y ast.Node, depth int) *node {
	n := &node{}
	if y == nil {
		return n
	}
	n.line, n.column = r.place(y)
	if depth > maxDepth {
		r.faults = append(r.faults, Fault{n.line, n.column, "", policy.Say("lies more than %d levels deep", maxDepth)})
		return n
	}
	switch y := y.(type) {
	case *ast.NullNode:
	case *ast.BoolNode:
		n.kind, n.scalar = boolean, fmt.Sprint(y.Value)
	case *ast.IntegerNode, *ast.FloatNode:
		n.kind, n.scalar, n.loose = number, y.GetToken().Value, true
	case *ast.InfinityNode, *ast.NanNode:
		n.kind, n.scalar, n.loose = text, y.GetToken().Value, true
	case *ast.StringNode:
		n.kind, n.scalar = text, y.Value
	case *ast.LiteralNode:
		n.kind, n.scalar = text, y.Value.Value
	case *ast.SequenceNode:
		n.kind = list
		for _, item := range y.Values {
			n.items = append(n.items, r.value(item, depth+1))
		}
	case *ast.MappingNode:
		n.kind = object
		for i, pair := range y.Values {
			if i == 0 {
				n.line, n.column = r.place(pair.Key)
			}
			r.pair(n, pair, depth)
		}
	case *ast.MappingValueNode:
		n.kind = object
		n.line, n.column = r.place(y.Key)
		r.pair(n, y, depth)
	default:
		r.faults = append(r.faults, Fault{n.line, n.column, "", policy.Say("holds a YAML %s, which is not read here: write the value out", y.Type())})
	}
	return n
}

func (r *yamlReader) pair(n *node, pair *ast.MappingValueNode, depth int) {
	line, column := r.place(pair.Key)
	name := pair.Key.GetToken().Value
	if key, ok := pair.Key.(*ast.StringNode); ok {
		name = key.Value
	}
	if t := pair.Key.GetToken().Type; t == token.MergeKeyType {
		r.faults = append(r.faults, Fault{line, column, "", policy.Say("holds a YAML merge key, which is not read here: write the fields out")})
		return
	}
	n.fields = append(n.fields, field{name, line, column, r.value(pair.Value, depth+1)})
}
