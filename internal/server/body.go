package server

import (
	"bytes"
	"errors"
	"io"
	"mime"
	"net/http"
	"slices"
	"strings"
	"time"

	"sentier/internal/service"
	"sentier/internal/strict"
)

// content is what a route takes as the body of a request.
type content uint8

// What a route takes.
const (
	nothing   content = iota
	plainJSON         // a question or a record
	mergePatch
	manyJSON // a batch of evaluations, or many changes
	smallJSON
	policyText // a policy document
	sheetText  // a CSV file
	feedText   // what a source is read from
	formText   // of a form
	scimJSON   // a resource of SCIM, or many
)

// contents says, of each content, how many bytes there can be, and by which media types it comes. The first is told to whoever
// sends another.
var contents = map[content]struct {
	limit int64
	types []string
}{
	smallJSON:  {8 << 10, []string{"application/json"}},
	plainJSON:  {1 << 20, []string{"application/json"}},
	mergePatch: {1 << 20, []string{"application/merge-patch+json"}},
	manyJSON:   {8 << 20, []string{"application/json"}},
	policyText: {1 << 30, []string{"application/yaml", "application/json"}},
	feedText:   {16 << 20, []string{"text/calendar", "text/csv", "application/x-ndjson"}},
	formText:   {64 << 10, []string{"application/x-www-form-urlencoded"}},
	scimJSON:   {8 << 20, []string{scimMedia, "application/json"}},
	sheetText:  {256 << 20, []string{"text/csv"}},
}

// mediaType is the type of a request's body; empty where it says none.
func (r *request) mediaType() (string, error) {
	text := r.Request().Header.Get("Content-Type")
	if text == "" {
		return "", nil
	}
	media, _, err := mime.ParseMediaType(text)
	if err != nil {
		return "", &httpError{http.StatusUnsupportedMediaType, service.Say("the Content-Type %q cannot be read", service.Clip(text))}
	}
	return media, nil
}

// checkContent refuses a body of a type that the route does not take. One that says no type is taken for the route's own,
// but for a patch, of which there are several kinds.
func (r *request) checkContent(c content) error {
	media, err := r.mediaType()
	if c == nothing || err != nil || r.Request().ContentLength == 0 && c != mergePatch {
		return err
	}
	types := contents[c].types
	if media == "" && c != mergePatch || slices.Contains(types, media) {
		return nil
	}
	r.Response().Header().Set("Accept", strings.Join(types, ", "))
	if c == mergePatch {
		r.Response().Header().Set("Accept-Patch", types[0])
	}
	if media == "" {
		media = "nothing"
	}
	return &httpError{http.StatusUnsupportedMediaType, service.Say("the body is sent as %s, and %s is taken here: say so in Content-Type", service.Clip(media), service.Names(types))}
}

// body reads the request's body, once its caller may send it. What it is kept in grows with what has come.
func (r *request) body() ([]byte, error) {
	limit := r.limit
	from := io.Reader(http.MaxBytesReader(r.Response(), r.Request().Body, limit))
	if r.heavy {
		from = &steady{Reader: from, control: http.NewResponseController(r.Response()), begun: time.Now()}
	} else {
		count := &counted{Reader: from, room: &r.server.bodies}
		r.leave = append(r.leave, func() { r.server.bodies.free.Add(count.held) })
		from = count
	}
	var data bytes.Buffer
	if n := r.Request().ContentLength; r.heavy && n > 0 && n <= limit {
		// Heavy requests are few, and their callers known. Room that nothing came for is not touched, and costs nothing.
		data.Grow(int(n) + bytes.MinRead)
	}
	_, err := data.ReadFrom(from)
	var large *http.MaxBytesError
	var busy *busyError
	if errors.As(err, &busy) {
		return nil, busy
	}
	if errors.As(err, &large) {
		return nil, &httpError{http.StatusRequestEntityTooLarge, service.Say("the body is larger than the %d bytes that are read here", limit)}
	}
	if err != nil {
		return nil, &httpError{http.StatusBadRequest, service.Say("the body ended before it was complete, or took too long to come")}
	}
	r.sent = data.Bytes()
	if len(r.sent) > fewBytes {
		return r.sent, r.queue(r.server.large)
	}
	return r.sent, nil
}

// decode reads the request's body strictly. A question that cannot be read is a bad request.
func (r *request) decode(into any) error {
	data, err := r.body()
	if err != nil {
		return err
	}
	if err := service.Decode(data, into); err != nil {
		return &badRequest{err}
	}
	return nil
}

// gather reads a body that holds records, which are read later by their types.
func (r *request) gather(into any) error {
	data, err := r.body()
	if err != nil {
		return err
	}
	return strictJSON(data, into)
}

// badRequest is a body that does not have the fields of its request.
type badRequest struct{ error }

func (e *badRequest) Unwrap() error { return e.error }

// strictJSON reads what holds records that are read later, by their types.
func strictJSON(data []byte, into any) error { return unread(strict.Read(data, into)) }

// unread tells why a body is not read, as a bad request.
func unread(err error) error {
	var why *strict.Error
	switch {
	case !errors.As(err, &why):
		return err
	case why.Field == "":
		return &httpError{http.StatusBadRequest, why.Why}
	}
	return &service.InputError{Field: why.Field, Problem: why.Why}
}
