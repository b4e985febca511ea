package document

import (
	"errors"
	"fmt"

	"github.com/goccy/go-yaml"
	"github.com/goccy/go-yaml/ast"
	"github.com/goccy/go-yaml/parser"
	"github.com/goccy/go-yaml/token"
)

// yamlReader turns the syntax tree of the YAML library into ours.
type yamlReader struct{ faults Faults }

func parseYAML(data []byte) (n *node, faults Faults) {
	file, err := parser.ParseBytes(data, 0, parser.AllowDuplicateMapKey())
	if err != nil {
		var syntax *yaml.SyntaxError
		if errors.As(err, &syntax) && syntax.Token != nil {
			p := syntax.Token.Position
			return nil, Faults{{p.Line, p.Column, "", "is no YAML: " + syntax.Message}}
		}
		return nil, Faults{{0, 0, "", "is no YAML: " + err.Error()}}
	}
	r := &yamlReader{}
	var body ast.Node
	for _, doc := range file.Docs {
		if doc.Body == nil {
			continue
		}
		if body != nil {
			line, column := place(doc.Body)
			return nil, Faults{{line, column, "", "is a second document in one file: keep one"}}
		}
		body = doc.Body
	}
	if body == nil {
		return nil, Faults{{1, 1, "", "is empty"}}
	}
	n = r.value(body, 0)
	return n, r.faults
}

func place(n ast.Node) (line, column int) {
	if t := n.GetToken(); t != nil && t.Position != nil {
		return t.Position.Line, t.Position.Column
	}
	return 0, 0
}

func (r *yamlReader) value(y ast.Node, depth int) *node {
	n := &node{}
	if y == nil {
		return n
	}
	n.line, n.column = place(y)
	if depth > maxDepth {
		r.faults = append(r.faults, Fault{n.line, n.column, "", fmt.Sprintf("lies more than %d levels deep", maxDepth)})
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
				n.line, n.column = place(pair.Key)
			}
			r.pair(n, pair, depth)
		}
	case *ast.MappingValueNode:
		n.kind = object
		n.line, n.column = place(y.Key)
		r.pair(n, y, depth)
	default:
		r.faults = append(r.faults, Fault{n.line, n.column, "", fmt.Sprintf("holds a YAML %s, which is not read here: write the value out", y.Type())})
	}
	return n
}

func (r *yamlReader) pair(n *node, pair *ast.MappingValueNode, depth int) {
	line, column := place(pair.Key)
	name := pair.Key.GetToken().Value
	if key, ok := pair.Key.(*ast.StringNode); ok {
		name = key.Value
	}
	if t := pair.Key.GetToken().Type; t == token.MergeKeyType {
		r.faults = append(r.faults, Fault{line, column, "", "holds a YAML merge key, which is not read here: write the fields out"})
		return
	}
	n.fields = append(n.fields, field{name, line, column, r.value(pair.Value, depth+1)})
}
