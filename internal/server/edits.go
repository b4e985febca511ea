package server

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"strings"
	"time"

	"sentier/internal/service"
	"sentier/internal/wire"
)

type (
	settingsQuery struct {
		Dry            bool   `query:"dry" description:"change nothing, and say what it would change"`
		Impact         bool   `query:"impact" description:"on a dry run: say also who would gain and lose what now"`
		IfMatch        string `header:"If-Match" description:"entity tag that the record must have"`
		IfNoneMatch    string `header:"If-None-Match" description:"*: the record must not be there yet"`
		IdempotencyKey string `header:"Idempotency-Key" description:"a repetition with the same key and body changes nothing more"`
		Note           string `query:"note" description:"why, for the record of changes"`
	}
	editQuery struct {
		ID string `path:"id"`
		settingsQuery
	}
	removeQuery struct {
		editQuery
		Along bool `query:"along" description:"take every mention of the record along"`
	}
	entryQuery struct {
		ID  string `path:"id"`
		Of  string `path:"entry" description:"the user, device, tag or point"`
		Dry bool   `query:"dry"`
		wire.Entry
	}
	batchQuery struct {
		Dry            bool   `query:"dry"`
		Note           string `query:"note"`
		Impact         bool   `query:"impact"`
		IdempotencyKey string `header:"Idempotency-Key"`
		wire.Edits
	}
	findQuery struct {
		Q     string `query:"q" required:"true"`
		Limit int    `query:"limit" minimum:"1" maximum:"200"`
	}
)

// entryLists are the lists whose entries can be added and dropped one by one.
var entryLists = []struct{ typeName, list, noun string }{
	{"user_groups", "members", "member"}, {"device_groups", "devices", "device"}, {"devices", "tags", "tag"}, {"devices", "points", "point"},
}

func (s *Server) editRoutes() []route {
	list := []route{
		{method: "POST", path: "/api/v1/changes", tag: "changes", summary: "Make many changes, all or none", in: batchQuery{}, out: wire.Saved{}, handle: s.batch},
		{method: "POST", path: "/api/v1/revisions/{id}/undo", tag: "changes", summary: "Take back what a revision did, as a new revision", in: editQuery{}, out: wire.Saved{}, handle: s.undo},
		{method: "GET", path: "/api/v1/events", tag: "changes", summary: "Server-sent events of every revision, resumable with Last-Event-ID", handle: s.events},
		{method: "GET", path: "/api/v1/sheets/{id}", tag: "sheets", summary: "Users, devices, members or device_lists as CSV", in: idPath{}, handle: s.export},
		{method: "PUT", path: "/api/v1/sheets/{id}", tag: "sheets", summary: "Bring in a CSV file, all of it or nothing", in: editQuery{}, out: wire.Imported{}, handle: s.importSheet},
		{method: "GET", path: "/api/v1/progress/{id}", tag: "changes", summary: "How far a request with an Idempotency-Key is, and whether it changed anything", in: idPath{}, out: wire.Progress{}, handle: s.progress},
		{method: "GET", path: "/api/v1/find", tag: "records", summary: "Search everything", in: findQuery{}, out: []wire.Found{}, handle: s.find},
		{method: "PATCH", path: "/api/v1/settings", tag: "records", summary: "Change the settings by a JSON Merge Patch", in: settingsQuery{}, out: wire.Saved{}, handle: s.patch("settings")},
		{method: "GET", path: "/api/v1/settings", tag: "records", summary: "The settings", out: wire.Settings(), handle: s.get("settings")},
	}
	for _, t := range wire.RecordTypes() {
		base := "/api/v1/" + t.Name
		list = append(list,
			route{method: "POST", path: base, tag: "records", summary: "Add a " + t.Noun + "; its id is made from its name where none is given", in: t.One, out: wire.Saved{}, status: 201, handle: s.create(t.Name)},
			route{method: "PUT", path: base + "/{id}", tag: "records", summary: "Make a " + t.Noun + " what the body says", in: []any{editQuery{}, t.One}, out: wire.Saved{}, handle: s.put(t.Name)},
			route{method: "PATCH", path: base + "/{id}", tag: "records", summary: "Change a " + t.Noun + " by a JSON Merge Patch", in: editQuery{}, out: wire.Saved{}, handle: s.patch(t.Name)},
			route{method: "DELETE", path: base + "/{id}", tag: "records", summary: "Remove a " + t.Noun, in: removeQuery{}, out: wire.Saved{}, handle: s.remove(t.Name)},
		)
	}
	for _, l := range entryLists {
		path := "/api/v1/" + l.typeName + "/{id}/" + l.list + "/{entry}"
		list = append(list,
			route{method: "PUT", path: path, tag: "records", summary: "Add one " + l.noun, in: entryQuery{}, out: wire.Saved{}, handle: s.entry("add", l.typeName, l.list)},
			route{method: "DELETE", path: path, tag: "records", summary: "Drop one " + l.noun, in: entryQuery{}, out: wire.Saved{}, handle: s.entry("drop", l.typeName, l.list)},
		)
	}
	return list
}

// flag reads a boolean of the query.
func (r *request) flag(name string) (bool, error) {
	text := r.QueryParam(name)
	if text == "" {
		return false, nil
	}
	v, err := strconv.ParseBool(text)
	if err != nil {
		return false, &service.InputError{Field: name, Problem: fmt.Sprintf("%q is neither true nor false", text)}
	}
	return v, nil
}

const maxKey = 200

// edit reads how a change is asked for, and its body.
func (r *request) edit() (service.EditOptions, error) {
	h := r.Request().Header
	o := service.EditOptions{Note: r.QueryParam("note"), Match: h.Get("If-Match"), None: h.Get("If-None-Match") == "*", Key: h.Get("Idempotency-Key")}
	if len(o.Key) > maxKey {
		return o, &service.InputError{Field: "Idempotency-Key", Problem: fmt.Sprintf("has %d characters: keep it to %d", len(o.Key), maxKey)}
	}
	var err error
	if o.Dry, err = r.flag("dry"); err != nil {
		return o, err
	}
	if o.Look, err = r.flag("impact"); err != nil {
		return o, err
	}
	// A batch may hold as much as a document.
	o.Body, err = body(r.Context, maxDocument)
	return o, err
}

// saved answers a change, with the entity tag of the record where it is there.
func (s *Server) saved(r *request, saved wire.Saved, err error, typeName, id string) error {
	if err != nil {
		return err
	}
	status := http.StatusOK
	if record, err := s.service.Get(r.caller, typeName, id); err == nil && saved.Saved {
		r.Response().Header().Set("ETag", service.Tag(record))
	}
	if r.Request().Method == http.MethodPost && saved.Saved && typeName != "" {
		r.Response().Header().Set("Location", "/api/v1/"+typeName+"/"+id)
		status = http.StatusCreated
	}
	return r.JSON(status, saved)
}

func (s *Server) create(typeName string) func(*request) error {
	return func(r *request) error {
		o, err := r.edit()
		if err != nil {
			return err
		}
		saved, err := s.service.Create(r.Request().Context(), r.caller, typeName, o.Body, o)
		return s.saved(r, saved, err, typeName, saved.ID)
	}
}

func (s *Server) put(typeName string) func(*request) error {
	return func(r *request) error {
		o, err := r.edit()
		if err != nil {
			return err
		}
		id := r.id()
		saved, err := s.service.Put(r.Request().Context(), r.caller, typeName, id, o.Body, o)
		return s.saved(r, saved, err, typeName, id)
	}
}

// id is the id of the path; the settings have none, and are one record.
func (r *request) id() string {
	if id := r.Param("id"); id != "" {
		return id
	}
	return "settings"
}

func (s *Server) patch(typeName string) func(*request) error {
	return func(r *request) error {
		o, err := r.edit()
		if err != nil {
			return err
		}
		id := r.id()
		saved, err := s.service.Patch(r.Request().Context(), r.caller, typeName, id, o.Body, o)
		return s.saved(r, saved, err, typeName, id)
	}
}

func (s *Server) remove(typeName string) func(*request) error {
	return func(r *request) error {
		o, err := r.edit()
		if err != nil {
			return err
		}
		along, err := r.flag("along")
		if err != nil {
			return err
		}
		saved, err := s.service.Remove(r.Request().Context(), r.caller, typeName, r.id(), along, o)
		return s.saved(r, saved, err, "", "")
	}
}

func (s *Server) entry(op, typeName, list string) func(*request) error {
	return func(r *request) error {
		o, err := r.edit()
		if err != nil {
			return err
		}
		var in wire.Entry
		if len(bytes.TrimSpace(o.Body)) > 0 {
			if err := strictJSON(o.Body, &in); err != nil {
				return err
			}
		}
		e := wire.Edit{Op: op, Type: typeName, ID: r.id(), List: list, Value: r.Param("entry"), From: in.From, Until: in.Until, Name: in.Name, Beside: in.Beside}
		saved, err := s.service.Edit(r.Request().Context(), r.caller, wire.Edits{Changes: []wire.Edit{e}}, o)
		// Entries come one by one for lists of thousands: no entity tag of the whole is made for each.
		return s.saved(r, saved, err, "", "")
	}
}

func (s *Server) batch(r *request) error {
	o, err := r.edit()
	if err != nil {
		return err
	}
	var in wire.Edits
	if err := strictJSON(o.Body, &in); err != nil {
		return err
	}
	saved, err := s.service.Edit(r.Request().Context(), r.caller, in, o)
	return s.saved(r, saved, err, "", "")
}

func (s *Server) undo(r *request) error {
	o, err := r.edit()
	if err != nil {
		return err
	}
	number, err := strconv.ParseUint(r.id(), 10, 64)
	if err != nil {
		return service.ErrNotFound
	}
	saved, err := s.service.Undo(r.Request().Context(), r.caller, number, o)
	return s.saved(r, saved, err, "", "")
}

func (s *Server) export(r *request) error {
	data, err := s.service.Export(r.caller, r.id())
	if err != nil {
		return err
	}
	r.Response().Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", r.id()+".csv"))
	return r.Blob(http.StatusOK, "text/csv; charset=utf-8", data)
}

func (s *Server) importSheet(r *request) error {
	o, err := r.edit()
	if err != nil {
		return err
	}
	imported, err := s.service.Import(r.Request().Context(), r.caller, r.id(), o.Body, o)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, imported)
}

func (s *Server) progress(r *request) error {
	p, err := s.service.Progress(r.Request().Context(), r.caller, r.id())
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, p)
}

// strictJSON reads what holds records that are read later, by their types.
func strictJSON(data []byte, into any) error {
	d := json.NewDecoder(bytes.NewReader(data))
	d.DisallowUnknownFields()
	err := d.Decode(into)
	if err == nil {
		if _, more := d.Token(); !errors.Is(more, io.EOF) {
			err = errors.New("more follows after its end")
		}
	}
	if err != nil {
		if field, ok := strings.CutPrefix(err.Error(), "json: unknown field "); ok {
			return &service.InputError{Field: strings.Trim(field, `"`), Problem: "is not known here"}
		}
		return jsonError(err)
	}
	return nil
}

func (s *Server) find(r *request) error {
	limit := 20
	if text := r.QueryParam("limit"); text != "" {
		var err error
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > 200 {
			return &service.InputError{Field: "limit", Problem: fmt.Sprintf("%q is out of range: 1 to 200", text)}
		}
	}
	found, err := s.service.Find(r.caller, r.QueryParam("q"), limit)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, found)
}

// streamTime is how long a stream of events stays open.
const streamTime = 10 * time.Minute

// events streams the revisions after Last-Event-ID, or from now on.
func (s *Server) events(r *request) error {
	if err := s.service.MayFollow(r.caller); err != nil {
		return err
	}
	after := s.service.State().Revision.Number
	if text := r.Request().Header.Get("Last-Event-ID"); text != "" {
		n, err := strconv.ParseUint(text, 10, 64)
		if err != nil {
			return &service.InputError{Field: "Last-Event-ID", Problem: fmt.Sprintf("%q is no revision", text)}
		}
		after = min(n, after)
	}
	w := r.Response()
	w.Header().Set("Content-Type", "text/event-stream")
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(http.StatusOK)
	stream := http.NewResponseController(w)
	ctx, cancel := s.untilClosing(r.Request().Context())
	defer cancel()
	// The stream ends now and then, so that its caller is looked at again; whoever follows resumes it.
	end := time.AfterFunc(streamTime, cancel)
	defer end.Stop()
	if _, err := fmt.Fprint(w, "retry: 1000\n\n"); err != nil {
		return err
	}
	if err := stream.Flush(); err != nil {
		return err
	}
	return s.service.Follow(ctx, r.caller, after, func(e wire.Event) error {
		data, err := json.Marshal(e)
		if err != nil {
			return err
		}
		if _, err := fmt.Fprintf(w, "id: %d\nevent: revision\ndata: %s\n\n", e.Revision, data); err != nil {
			return err
		}
		return stream.Flush()
	})
}
