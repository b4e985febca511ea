// Package strict reads JSON that others send: one reader for every body, every source and every file, so that nothing is read in two ways. It takes exact
// names alone, each once in an object, valid UTF-8, and nothing after the end (RFC 8259, I-JSON of RFC 7493 in this).
package strict

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"reflect"

	quick "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"sentier/internal/policy"
)

// Error is why a text is not read. Field is the path of the value that is wrong, such as changes[0].op; empty: the text as a whole.
type Error struct {
	Field string
	Why   policy.Said
}

func (e *Error) Error() string {
	if e.Field == "" {
		return e.Why.Error()
	}
	return e.Field + ": " + e.Why.Error()
}

// Unwrap is the sentence that it is told as.
func (e *Error) Unwrap() error { return e.Why }

// Read reads a JSON text into what into points to. A name that is not known there is an error. The error is an [*Error].
func Read(data []byte, into any) error {
	return told(quick.Unmarshal(data, into, quick.RejectUnknownMembers(true)))
}

// ReadOpen reads like [Read] what may have members that are for others, as standards allow it: they are passed over.
func ReadOpen(data []byte, into any) error { return told(quick.Unmarshal(data, into)) }

// Members reads the members of an object, each as it stands: what is wrong within one is wrong with that one alone.
func Members(data []byte) (map[string]json.RawMessage, error) {
	d := jsontext.NewDecoder(bytes.NewReader(data), jsontext.AllowDuplicateNames(true))
	open, err := d.ReadToken()
	if err != nil {
		return nil, told(err)
	}
	if open.Kind() != '{' {
		return nil, &Error{Why: policy.Say("the body is no JSON that is read here: %v", "it is no object")}
	}
	out := map[string]json.RawMessage{}
	for d.PeekKind() == '"' {
		name, err := d.ReadToken()
		if err != nil {
			return nil, told(err)
		}
		key := name.String()
		if _, twice := out[key]; twice {
			return nil, &Error{policy.Clip(key), policy.Say("stands twice in one object: write it once")}
		}
		value, err := d.ReadValue()
		if err != nil {
			return nil, told(err)
		}
		out[key] = json.RawMessage(value.Clone())
	}
	if _, err := d.ReadToken(); err != nil {
		return nil, told(err)
	}
	if _, err := d.ReadToken(); err != io.EOF {
		return nil, &Error{Why: policy.Say("the body is no JSON that is read here: %v", "more follows after its end")}
	}
	return out, nil
}

// Elements reads the elements of a list, each as it stands; see [Members].
func Elements(data []byte) (out []json.RawMessage, err error) {
	err = quick.Unmarshal(data, &out, jsontext.AllowDuplicateNames(true))
	return out, told(err)
}

func told(err error) error {
	if err == nil {
		return nil
	}
	var semantic *quick.SemanticError
	var syntactic *jsontext.SyntacticError
	switch {
	case errors.Is(err, quick.ErrUnknownName):
		errors.As(err, &semantic)
		return &Error{path(semantic.JSONPointer), policy.Say("is not known here")}
	case errors.Is(err, jsontext.ErrDuplicateName):
		errors.As(err, &syntactic)
		return &Error{path(syntactic.JSONPointer), policy.Say("stands twice in one object: write it once")}
	case errors.As(err, &syntactic):
		if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
			return &Error{Why: policy.Say("the body is no JSON: it ends before it is complete")}
		}
		return &Error{Why: policy.Say("the body is no JSON: %v, at byte %d", syntactic.Err, syntactic.ByteOffset)}
	case errors.As(err, &semantic):
		var said policy.Said
		if semantic.Err != nil && errors.As(semantic.Err, &said) {
			return &Error{path(semantic.JSONPointer), said}
		}
		return &Error{path(semantic.JSONPointer), policy.Say("is of another kind: %s belongs here", kindOf(semantic.GoType))}
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return &Error{Why: policy.Say("the body is no JSON: it ends before it is complete")}
	}
	return &Error{Why: policy.Say("the body is no JSON that is read here: %v", err)}
}

// path writes a JSON pointer as the paths of faults are written: changes[0].op.
func path(pointer jsontext.Pointer) string {
	out := ""
	for token := range pointer.Tokens() {
		switch {
		case token != "" && len(token) < 10 && isNumber(token):
			out += "[" + token + "]"
		case out == "":
			out = policy.Clip(token)
		default:
			out += "." + policy.Clip(token)
		}
	}
	return out
}

func isNumber(text string) bool {
	for _, c := range text {
		if c < '0' || c > '9' {
			return false
		}
	}
	return true
}

var raw = reflect.TypeFor[json.RawMessage]()

func kindOf(t reflect.Type) policy.Said {
	if t == nil || t == raw {
		return policy.Say("an object")
	}
	switch t.Kind() {
	case reflect.String:
		return policy.Say("a text")
	case reflect.Bool:
		return policy.Say("true or false")
	case reflect.Slice, reflect.Array:
		return policy.Say("a list")
	case reflect.Struct, reflect.Map, reflect.Interface, reflect.Pointer:
		return policy.Say("an object")
	}
	return policy.Say("a number")
}
