package audit

import (
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// mostInBlock is how many entries a block holds at most: to find one of them all are read.
const mostInBlock = 128

// A block is lines of text, one an entry, whose fields stand between tabs: at (microseconds since 1970), kind, outcome, by, via, token, from,
// user, right, device, point, revision, more, chain (base64). A field that is as in the line before is written as a ditto mark. Backslash,
// tab, the end of a line, and a text that is a ditto mark itself, are written with a backslash.
const (
	fieldsOfLine = 14
	ditto        = `"`
)

var (
	escapeField   = strings.NewReplacer(`\`, `\\`, "\t", `\t`, "\n", `\n`)
	unescapeField = strings.NewReplacer(`\\`, `\`, `\t`, "\t", `\n`, "\n", `\"`, `"`)
)

// texts are the fields of an entry that are texts, in their order in a line.
func (e *Entry) texts() [10]string {
	return [10]string{string(e.Kind), e.Outcome, e.By, e.Via, e.Token, e.From, e.User, e.Right, e.Device, e.Point}
}

// appendLine writes an entry after the one before it in a block; nil: there is none.
func appendLine(b []byte, before, e *Entry) []byte {
	b = strconv.AppendInt(b, e.At.UnixMicro(), 10)
	var last [10]string
	if before != nil {
		last = before.texts()
	}
	for i, text := range e.texts() {
		b = appendField(b, text, last[i], before != nil)
	}
	b = append(b, '\t')
	if before != nil && before.Revision == e.Revision {
		b = append(b, ditto...)
	} else {
		b = strconv.AppendUint(b, e.Revision, 10)
	}
	more := ""
	if before != nil {
		more = string(before.More)
	}
	b = appendField(b, string(e.More), more, before != nil)
	b = append(b, '\t')
	b = base64.RawStdEncoding.AppendEncode(b, e.Chain)
	return append(b, '\n')
}

func appendField(b []byte, text, last string, again bool) []byte {
	b = append(b, '\t')
	switch {
	case text == "":
		return b
	case again && text == last:
		return append(b, ditto...)
	case text == ditto:
		return append(b, '\\', '"')
	case strings.ContainsAny(text, "\\\t\n"):
		return append(b, escapeField.Replace(text)...)
	}
	return append(b, text...)
}

var errLine = errors.New("the line cannot be read")

// readBlock calls visit with the entries of a block, whose first has a number; it may keep what it is given. Where a line cannot be read, the
// error is [errLine], after the entries before it.
func readBlock(first uint64, body string, visit func(*Entry) error) error {
	var before *Entry
	for seq := first; body != ""; seq++ {
		line, rest, ended := strings.Cut(body, "\n")
		e, err := readLine(before, line)
		if err != nil || !ended {
			return fmt.Errorf("%w: %s", errLine, EntryName(seq))
		}
		e.Seq = seq
		if err := visit(e); err != nil {
			return err
		}
		before, body = e, rest
	}
	return nil
}

func readLine(before *Entry, line string) (*Entry, error) {
	var fields [fieldsOfLine]string
	for i := range fields {
		field, rest, more := strings.Cut(line, "\t")
		if more == (i == fieldsOfLine-1) {
			return nil, errLine
		}
		fields[i], line = field, rest
	}
	at, err1 := strconv.ParseInt(fields[0], 10, 64)
	e := &Entry{At: time.UnixMicro(at).UTC()}
	var last [10]string
	more := ""
	if before != nil {
		last, more = before.texts(), string(before.More)
	}
	var texts [10]string
	for i := range texts {
		texts[i] = readField(fields[1+i], last[i], before != nil)
	}
	e.Kind = Kind(texts[0])
	e.Outcome, e.By, e.Via, e.Token, e.From, e.User, e.Right, e.Device, e.Point = texts[1], texts[2], texts[3], texts[4], texts[5], texts[6], texts[7], texts[8], texts[9]
	var err2 error
	if fields[11] == ditto && before != nil {
		e.Revision = before.Revision
	} else {
		e.Revision, err2 = strconv.ParseUint(fields[11], 10, 64)
	}
	if text := readField(fields[12], more, before != nil); text != "" {
		e.More = []byte(text)
	}
	var err3 error
	e.Chain, err3 = base64.RawStdEncoding.DecodeString(fields[13])
	return e, errors.Join(err1, err2, err3)
}

func readField(field, last string, again bool) string {
	switch {
	case field == ditto && again:
		return last
	case strings.Contains(field, `\`):
		return unescapeField.Replace(field)
	}
	return field
}
