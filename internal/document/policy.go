package document

import (
	"bytes"
	"encoding/json"
	"fmt"
	"reflect"
	"slices"

	"sentier/internal/policy"
)

// PolicyFormat is the format of policy documents.
const PolicyFormat = "sentier-policy/1"

type policyDocument struct {
	Format string `json:"format"`
	policy.Records
}

// ReadPolicy reads a policy document, JSON or YAML. The error is of type [Faults].
func ReadPolicy(data []byte) (*policy.Policy, error) {
	root, faults := parse(data)
	if root == nil {
		return nil, faults
	}
	d := &decoder{faults: faults}
	var records policy.Records
	format, rest := root.without("format")
	d.format(root, format, PolicyFormat)
	d.decode(rest, reflect.ValueOf(&records).Elem(), "")
	p, err := policy.FromRecords(&records)
	if more, ok := err.(policy.Faults); ok {
		for _, f := range more {
			if slices.ContainsFunc(d.faults, func(have Fault) bool { return have.Path == f.Path() }) {
				continue // a field that could not be read is empty, and that is no second fault
			}
			line, column := root.locate(f.Path())
			d.faults = append(d.faults, Fault{line, column, f.Path(), f.Problem})
		}
	}
	if len(d.faults) > 0 {
		return nil, d.faults.sorted()
	}
	return p, nil
}

// without takes a field out of an object.
func (n *node) without(name string) (*node, *node) {
	rest := *n
	rest.fields = nil
	var taken *node
	for _, f := range n.fields {
		if f.name == name {
			taken = f.value
			continue
		}
		rest.fields = append(rest.fields, f)
	}
	return taken, &rest
}

func (d *decoder) format(root, given *node, want string) {
	switch {
	case root.kind != object:
	case given == nil:
		d.fault(root, "format", "is missing: write format: %s", want)
	case given.scalar != want:
		d.fault(given, "format", "%q is not read here: this is the place for %s", given.scalar, want)
	}
}

// Syntax is how a document is written.
type Syntax string

// The syntaxes.
const (
	YAML Syntax = "yaml"
	JSON Syntax = "json"
)

// WritePolicy writes a policy document: records by id, fields in the order of their definition, so that
// two documents of one policy are the same bytes.
func WritePolicy(p *policy.Policy, syntax Syntax) ([]byte, error) {
	return write(policyDocument{PolicyFormat, *p.Records()}, syntax)
}

func write(v any, syntax Syntax) ([]byte, error) {
	var out bytes.Buffer
	encoder := json.NewEncoder(&out)
	encoder.SetEscapeHTML(false)
	encoder.SetIndent("", "  ")
	if err := encoder.Encode(v); err != nil {
		return nil, fmt.Errorf("write document: %w", err)
	}
	if syntax == JSON {
		return out.Bytes(), nil
	}
	root, faults := parseJSON(out.Bytes())
	if len(faults) > 0 {
		return nil, fmt.Errorf("write document: %w", faults)
	}
	return emit(root), nil
}
