package document

import (
	"bufio"
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"iter"
	"strconv"

	"sentier/internal/policy"
)

// PolicyFormat is the format of policy documents.
const PolicyFormat = "sentier-policy/1"

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
		d.fault(root, (*place)(nil).field("format"), "is missing: write format: %s", want)
	case given.scalar != want:
		d.fault(given, (*place)(nil).field("format"), "%q is not read here: this is the place for %s", given.scalar, want)
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
	var out bytes.Buffer
	err := WritePolicyTo(&out, p, syntax)
	return out.Bytes(), err
}

// WritePolicyTo is [WritePolicy] into a writer, record by record.
func WritePolicyTo(to io.Writer, p *policy.Policy, syntax Syntax) error {
	w := &policyWriter{out: bufio.NewWriterSize(to, 64<<10), syntax: syntax}
	w.field("format", PolicyFormat)
	w.field("settings", p.Settings())
	for _, t := range policy.Types() {
		w.list(t.String(), p.Written(t))
	}
	if syntax == JSON {
		w.text("\n}\n")
	}
	if w.err == nil {
		w.err = w.out.Flush()
	}
	if w.err != nil {
		return fmt.Errorf("write document: %w", w.err)
	}
	return nil
}

// policyWriter writes the fields of a document; it does nothing more after an error.
type policyWriter struct {
	out    *bufio.Writer
	syntax Syntax
	begun  bool
	err    error
}

func (w *policyWriter) text(s string) {
	if w.err == nil {
		_, w.err = w.out.WriteString(s)
	}
}

// json writes a value as JSON whose lines after the first begin with an indentation.
func (w *policyWriter) json(v any, indent string) []byte {
	var out bytes.Buffer
	e := json.NewEncoder(&out)
	e.SetEscapeHTML(false)
	e.SetIndent(indent, "  ")
	if err := e.Encode(v); err != nil && w.err == nil {
		w.err = err
	}
	return bytes.TrimRight(out.Bytes(), "\n")
}

// tree is a value as a tree, for YAML.
func (w *policyWriter) tree(v any) *node {
	root, faults := parseJSON(w.json(v, ""), -1)
	if len(faults) > 0 && w.err == nil {
		w.err = faults
	}
	if root == nil {
		return &node{}
	}
	return root
}

// name begins a field.
func (w *policyWriter) name(name string) {
	if w.syntax == YAML {
		w.text(name + ":")
		return
	}
	if w.begun {
		w.text(",\n  ")
	} else {
		w.text("{\n  ")
	}
	w.begun = true
	w.text(strconv.Quote(name) + ": ")
}

func (w *policyWriter) field(name string, v any) {
	w.name(name)
	if w.syntax == JSON {
		w.text(string(w.json(v, "  ")))
		return
	}
	var e emitter
	e.value(w.tree(v), 0)
	w.text(e.out.String())
}

// list writes the records of a type; none: nothing.
func (w *policyWriter) list(name string, records iter.Seq[policy.Record]) {
	some := false
	for r := range records {
		if w.err != nil {
			return
		}
		if !some {
			w.name(name)
			w.text(map[Syntax]string{JSON: "[\n    ", YAML: "\n"}[w.syntax])
		} else if w.syntax == JSON {
			w.text(",\n    ")
		}
		some = true
		if w.syntax == JSON {
			w.text(string(w.json(r, "    ")))
			continue
		}
		var e emitter
		e.item(w.tree(r), 0)
		w.text(e.out.String())
	}
	if some && w.syntax == JSON {
		w.text("\n  ]")
	}
}
