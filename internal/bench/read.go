package main

import (
	"bytes"
	"encoding/json"
	"fmt"

	"github.com/goccy/go-yaml/parser"

	"sentier/internal/document"
)

// readers measures what reading a policy document costs, with all that is checked, against the bare libraries on the same bytes.
func (r *run) readers(w *world, n int) {
	indented, err := document.WritePolicy(w.policy, document.JSON)
	check(err)
	var line bytes.Buffer
	check(json.Compact(&line, indented))
	text, err := document.WritePolicy(w.policy, document.YAML)
	check(err)
	for _, x := range []struct {
		name   string
		data   []byte
		syntax document.Syntax
		limit  float64
		floor  func(data []byte) error
	}{
		{"a JSON document, indented", indented, document.JSON, 8, bareJSON},
		{"a JSON document on one line", line.Bytes(), document.JSON, 8, bareJSON},
		{"a YAML document", text, document.YAML, 3, bareYAML},
	} {
		took, floor := against(min(rounds, 5), func() {
			_, err := document.ReadPolicyAs(x.data, x.syntax, nil)
			check(err)
		}, func() { check(x.floor(x.data)) })
		r.report(figure{x.name, n, ratio(took, floor), x.limit, false, fmt.Sprintf("%v for %d KB, the bare library %v", took, len(x.data)>>10, floor)})
	}
}

func bareJSON(data []byte) error {
	var v any
	return json.Unmarshal(data, &v)
}

func bareYAML(data []byte) error {
	_, err := parser.ParseBytes(data, 0)
	return err
}
