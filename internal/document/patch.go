package document

import (
	"encoding/json"
	"reflect"

	"sentier/internal/policy"
)

// ReadPatch reads a JSON Merge Patch (RFC 7396) of a record of a type strictly: what it names must be fields of the type, and what it
// gives them must be what belongs there; null takes a field away. The patch that it gives has its instants as records keep them. The
// error is of type [Faults].
func ReadPatch(t policy.Type, data []byte) (json.RawMessage, error) {
	root, faults := parseJSON(data, mostNodes)
	if root == nil {
		return nil, faults
	}
	d := &decoder{faults: faults, partial: true}
	d.decode(root, reflect.ValueOf(policy.New(t)).Elem(), nil)
	if root.kind == null {
		d.want(root, object, nil)
	}
	if len(d.faults) > 0 {
		return nil, d.faults.sorted()
	}
	return root.json(nil), nil
}

// json writes a tree as it was read.
func (n *node) json(out []byte) []byte {
	switch n.kind {
	case null:
		return append(out, "null"...)
	case text:
		return appendText(out, n.scalar)
	case list:
		out = append(out, '[')
		for i, item := range n.items {
			if i > 0 {
				out = append(out, ',')
			}
			out = item.json(out)
		}
		return append(out, ']')
	case object:
		out = append(out, '{')
		for i, f := range n.fields {
			if i > 0 {
				out = append(out, ',')
			}
			out = f.value.json(append(appendText(out, f.name), ':'))
		}
		return append(out, '}')
	}
	return append(out, n.scalar...)
}

func appendText(out []byte, s string) []byte {
	body, _ := json.Marshal(s) // a text always can be written
	return append(out, body...)
}
