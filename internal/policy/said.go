package policy

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
)

// Said is a sentence for people about something that is wrong. Its form, as package fmt has it, is in English, and is by what the sentence
// is found in another language. As an error it is told in English.
type Said struct {
	Form string
	Args []any // some are sentences or choices, and have other languages themselves
}

// Say makes a sentence. An argument that is an error made of a sentence is that sentence.
func Say(form string, args ...any) Said {
	for i, arg := range args {
		var said Said
		if err, ok := arg.(error); ok && errors.As(err, &said) {
			args[i] = said
		}
	}
	return Said{form, args}
}

// Complain makes the sentence that a check gives; nil is that nothing is wrong.
func Complain(form string, args ...any) *Said {
	said := Say(form, args...)
	return &said
}

// SaidBy is the sentence that an error is made of, or the error's text where it is made of none.
func SaidBy(err error) Said {
	var said Said
	if errors.As(err, &said) {
		return said
	}
	return Say("%v", err)
}

// Error is the sentence in English.
func (s Said) Error() string { return s.In(func(form string) string { return form }) }

// In writes the sentence with the forms that another language has for those of English.
func (s Said) In(form func(english string) string) string {
	args := make([]any, len(s.Args))
	for i, arg := range s.Args {
		if part, ok := arg.(interface {
			In(form func(english string) string) string
		}); ok {
			arg = part.In(form)
		}
		args[i] = arg
	}
	return fmt.Sprintf(form(s.Form), args...)
}

// Choice is what can be written at a place; each is told in quotes.
type Choice []string

// In writes “"a", "b" or "c"” with the word that a language has for or.
func (c Choice) In(form func(english string) string) string {
	quoted := make(Names, len(c))
	for i, word := range c {
		quoted[i] = strconv.Quote(word)
	}
	return quoted.In(form)
}

// Names are some of which one is meant.
type Names []string

// In writes “a, b or c” with the word that a language has for or.
func (n Names) In(form func(english string) string) string {
	last := len(n) - 1
	if last < 1 {
		return strings.Join(n, "")
	}
	return strings.Join(n[:last], ", ") + " " + form("or") + " " + n[last]
}

// Clip bounds what somebody else has written, to 128 bytes and never half a letter, where it is logged or said again.
func Clip(text string) string {
	const longest = 128
	if len(text) > longest {
		return strings.ToValidUTF8(text[:longest], "") + "…"
	}
	return text
}
