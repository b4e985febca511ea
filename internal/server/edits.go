package server

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"sentier/internal/answers"
	"sentier/internal/service"
	"sentier/internal/wire"
)

type (
	savingQuery struct { // of every change
		DryRun         bool     `query:"dry_run" description:"change nothing, and say what it would change"`
		Impact         bool     `query:"impact" description:"on a dry run: say also who would gain and lose what"`
		Note           string   `query:"note" description:"why, for the record of changes"`
		Draft          string   `query:"draft" description:"id of a draft: it is put into that, and nothing counts until that is applied"`
		Override       []string `query:"override" maxItems:"1000" description:"ids of expectations in spite of which it is saved; it takes a mandate of owner, and a note that says why"`
		IdempotencyKey string   `header:"Idempotency-Key" description:"a repetition with the same key and body changes nothing more"`
	}
	settingsQuery struct {
		savingQuery
		IfMatch     string `header:"If-Match" description:"entity tag that the record must have"`
		IfNoneMatch string `header:"If-None-Match" description:"*: the record must not be there yet"`
	}
	editQuery struct {
		ID string `path:"id"`
		settingsQuery
	}
	historyQuery struct {
		By     string `query:"by" description:"id of the user who made them"`
		Since  string `query:"since" description:"RFC 3339, or a local time of the policy; included"`
		Until  string `query:"until" description:"likewise; not included"`
		Type   string `query:"type" description:"with id: only those that changed this record"`
		ID     string `query:"id" description:"of that record"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000"`
		Cursor string `query:"cursor"`
	}
	revisionQuery struct {
		idPath
		Impact bool `query:"impact" description:"say also who gained and lost what by it, when it was made"`
	}
	comparisonQuery struct {
		From string `query:"from" description:"a revision, or a time (RFC 3339, or a local time of the policy)"`
		To   string `query:"to" description:"likewise; left out: now"`
	}
	removeQuery struct {
		editQuery
		Cascade bool `query:"cascade" description:"take every mention of the record along"`
		Accept  bool `query:"accept_gains" description:"with cascade: though somebody would gain rights by it"`
	}
	entryQuery struct {
		ID string `path:"id"`
		Of string `path:"entry" description:"the user, device, tag or point"`
		settingsQuery
		wire.Entry
	}
	batchQuery struct {
		savingQuery
		IfMatch string `header:"If-Match" description:"entity tags of the policy, or of the one record that is changed"`
		wire.Edits
	}
	sheetQuery struct {
		ID  string `path:"id"`
		Raw bool   `query:"raw" description:"without what guards people's programs against formulas in cells"`
	}
	findQuery struct {
		Q     string `query:"q" description:"a word to search for; left out: nothing is found"`
		Limit int    `query:"limit" minimum:"1" maximum:"200"`
	}
)

func (s *Server) editRoutes() []route {
	list := []route{
		{id: "makeChanges", method: "POST", path: "/api/v1/changes", tag: "changes", summary: "Make many changes, all or none", in: batchQuery{}, needs: service.Write, takes: manyJSON, out: wire.Saved{}, handle: s.batch},
		{id: "getRevision", method: "GET", path: "/api/v1/revisions/{id}", tag: "changes", summary: "What a revision did, record by record, with what was before and after", in: revisionQuery{}, needs: service.Whole, heavy: true, out: wire.RevisionShown{}, handle: s.revision},
		{id: "listRevisions", method: "GET", path: "/api/v1/revisions", tag: "changes", summary: "The line of revisions, newest first: who, when, why, and what each changed", in: historyQuery{}, needs: service.Whole, out: wire.Revisions{}, handle: s.revisions},
		{id: "comparePast", method: "GET", path: "/api/v1/comparison", tag: "changes", summary: "What leads from the policy as it was to what it was later, or is, and who gained and lost what", in: comparisonQuery{}, needs: service.Whole, heavy: true, out: wire.Compared{}, handle: s.comparison},
		{id: "undoRevisions", method: "POST", path: "/api/v1/undo", tag: "changes", summary: "Take back what several revisions did, as one new revision", in: []any{settingsQuery{}, wire.Undo{}}, needs: service.Write, takes: plainJSON, out: wire.Saved{}, handle: s.undoSeveral},
		{id: "undoRevision", method: "POST", path: "/api/v1/revisions/{id}/undo", tag: "changes", summary: "Take back what a revision did, as a new revision", in: editQuery{}, needs: service.Write, out: wire.Saved{}, handle: s.undo},
		{id: "followEvents", here: true, method: "GET", path: "/api/v1/events", produces: []string{"text/event-stream"}, tag: "changes", summary: "Server-sent events of every revision, resumable with Last-Event-ID", needs: service.Follow, stream: true, handle: s.events},
		{id: "listSheets", method: "GET", path: "/api/v1/sheets", tag: "sheets", summary: "The sheets that can be written and brought in, each with its columns", needs: service.Read, out: map[string][]string{}, handle: s.sheets},
		{id: "getSheet", method: "GET", path: "/api/v1/sheets/{id}", produces: []string{"text/csv"}, tag: "sheets", summary: "A sheet as CSV", in: sheetQuery{}, needs: service.Whole, heavy: true, handle: s.export},
		{id: "bringInSheet", method: "PUT", path: "/api/v1/sheets/{id}", tag: "sheets", summary: "Bring in a CSV file, all of it or nothing", in: editQuery{}, needs: service.Write, takes: sheetText, heavy: true, out: wire.Imported{}, handle: s.importSheet},
		{id: "getProgress", method: "GET", path: "/api/v1/progress/{id}", tag: "changes", summary: "How far a request with an Idempotency-Key is, and whether it changed anything", in: idPath{}, needs: service.Write, out: wire.Progress{}, handle: s.progress},
		{id: "find", past: true, method: "GET", path: "/api/v1/find", tag: "records", summary: "Search everything", in: findQuery{}, needs: service.Read, out: []wire.Found{}, handle: s.find},
		{id: "patchSettings", method: "PATCH", path: "/api/v1/settings", tag: "records", summary: "Change the settings by a JSON Merge Patch", in: settingsQuery{}, record: "settings", needs: service.Write, takes: mergePatch, out: wire.Saved{}, handle: s.patch("settings")},
		{id: "getSettings", past: true, method: "GET", path: "/api/v1/settings", tag: "records", summary: "The settings", record: "settings", handle: s.get("settings")},
	}
	for _, t := range wire.RecordTypes() {
		base := "/api/v1/" + t.Name
		list = append(list,
			route{id: "create" + t.Type, method: "POST", path: base, tag: "records", summary: "Add a " + t.Noun + "; its id is made from its name where none is given", in: settingsQuery{}, record: t.Name, needs: service.Write, takes: plainJSON, out: wire.Saved{}, status: 201, handle: s.create(t.Name)},
			route{id: "put" + t.Type, method: "PUT", path: base + "/{id}", tag: "records", summary: "Make a " + t.Noun + " what the body says", in: editQuery{}, record: t.Name, needs: service.Write, takes: plainJSON, out: wire.Saved{}, handle: s.put(t.Name)},
			route{id: "patch" + t.Type, method: "PATCH", path: base + "/{id}", tag: "records", summary: "Change a " + t.Noun + " by a JSON Merge Patch", in: editQuery{}, record: t.Name, needs: service.Write, takes: mergePatch, out: wire.Saved{}, handle: s.patch(t.Name)},
			route{id: "remove" + t.Type, method: "DELETE", path: base + "/{id}", tag: "records", summary: "Remove a " + t.Noun, in: removeQuery{}, needs: service.Write, out: wire.Saved{}, handle: s.remove(t.Name)},
		)
		for _, l := range t.Lists {
			path, noun := base+"/{id}/"+l+"/{entry}", strings.TrimSuffix(l, "s")
			list = append(list,
				route{id: "add" + capital(noun) + "To" + t.Type, method: "PUT", path: path, tag: "records", summary: "Add one " + noun + " to a " + t.Noun, in: entryQuery{}, bodyless: true, needs: service.Write, takes: plainJSON, out: wire.Saved{}, handle: s.entry("add", t.Name, l)},
				route{id: "drop" + capital(noun) + "From" + t.Type, method: "DELETE", path: path, tag: "records", summary: "Drop one " + noun + " from a " + t.Noun, in: entryQuery{}, bodyless: true, needs: service.Write, takes: plainJSON, out: wire.Saved{}, handle: s.entry("drop", t.Name, l)},
			)
		}
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
		return false, service.Wrong(name, "%q is neither true nor false", text)
	}
	return v, nil
}

const maxKey = 200

// asked reads, of a request whose body is read, by what a repetition of it is known.
func (r *request) asked() (service.Asked, error) {
	o := service.Asked{Key: r.Request().Header.Get("Idempotency-Key")}
	if len(o.Key) > maxKey {
		return o, service.Wrong("Idempotency-Key", "has %d characters: keep it to %d", len(o.Key), maxKey)
	}
	hash := sha256.New()
	fmt.Fprintf(hash, "%s %s\n", r.Request().Method, r.Request().URL.RequestURI())
	hash.Write(r.sent)
	hash.Sum(o.Request[:0])
	return o, nil
}

// mostOfNothing is how many bytes a body has at most where none is read.
const mostOfNothing = 64

// edit reads how a change is asked for, and its body.
func (r *request) edit() (service.EditOptions, error) {
	h := r.Request().Header
	o := service.EditOptions{Note: r.QueryParam("note"), Override: r.QueryParams()["override"], Draft: r.QueryParam("draft"), Match: tags(h.Values("If-Match")), None: h.Get("If-None-Match") == "*"}
	if len(h.Values("If-Match")) > 0 && len(o.Match) == 0 {
		return o, service.Wrong("If-Match", "names no entity tag")
	}
	var err error
	if o.DryRun, err = r.flag("dry_run"); err != nil {
		return o, err
	}
	if o.Impact, err = r.flag("impact"); err != nil {
		return o, err
	}
	takesNone := r.limit == 0
	if takesNone {
		r.limit = mostOfNothing
	}
	if _, err = r.body(); err != nil {
		return o, err
	}
	if sent := strings.Join(strings.Fields(string(r.sent)), ""); takesNone && sent != "" && sent != "{}" { // which clients send who always send something
		return o, &httpError{http.StatusBadRequest, service.Say("nothing is read from the body here: leave it out")}
	}
	o.Asked, err = r.asked()
	return o, err
}

// saved answers a change, with the entity tag of the record's own version.
func (s *Server) saved(r *request, saved wire.Saved, err error, typeName, id string) error {
	if err != nil {
		return err
	}
	status := http.StatusOK
	if saved.Tag != "" && saved.Saved {
		r.Response().Header().Set("ETag", saved.Tag)
	}
	if r.Request().Method == http.MethodPost && saved.Saved && typeName != "" {
		r.Response().Header().Set("Location", s.prefix()+"/api/v1/"+typeName+"/"+url.PathEscape(id))
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
		saved, err := s.service.Create(r.Request().Context(), r.caller, typeName, r.sent, o)
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
		saved, err := s.service.Put(r.Request().Context(), r.caller, typeName, id, r.sent, o)
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
		saved, err := s.service.Patch(r.Request().Context(), r.caller, typeName, id, r.sent, o)
		return s.saved(r, saved, err, typeName, id)
	}
}

func (s *Server) remove(typeName string) func(*request) error {
	return func(r *request) error {
		o, err := r.edit()
		if err != nil {
			return err
		}
		cascade, err := r.flag("cascade")
		if err != nil {
			return err
		}
		accept, err := r.flag("accept_gains")
		if err != nil {
			return err
		}
		saved, err := s.service.Remove(r.Request().Context(), r.caller, typeName, r.id(), cascade, accept, o)
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
		if len(bytes.TrimSpace(r.sent)) > 0 {
			if err := strictJSON(r.sent, &in); err != nil {
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
	if err := strictJSON(r.sent, &in); err != nil {
		return err
	}
	saved, err := s.service.Edit(r.Request().Context(), r.caller, in, o)
	return s.saved(r, saved, err, "", "")
}

func (s *Server) revision(r *request) error {
	number, err := strconv.ParseUint(r.id(), 10, 64)
	if err != nil {
		return service.ErrNotFound
	}
	impact, err := r.flag("impact")
	if err != nil {
		return err
	}
	return r.tell(r.answers().Revision(r.Request().Context(), r.caller, number, impact))
}

func (s *Server) revisions(r *request) error {
	q := answers.HistoryQuery{By: r.QueryParam("by"), Since: r.QueryParam("since"), Until: r.QueryParam("until"), Type: r.QueryParam("type"), ID: r.QueryParam("id"), Cursor: r.QueryParam("cursor")}
	if text := r.QueryParam("limit"); text != "" {
		var err error
		if q.Limit, err = strconv.Atoi(text); err != nil || q.Limit == 0 {
			return service.Wrong("limit", "%q is no number of revisions", service.Clip(text))
		}
	}
	page, err := r.answers().History(r.Request().Context(), r.caller, q)
	if err != nil {
		return err
	}
	r.next(page.Next)
	return r.JSON(http.StatusOK, page)
}

func (s *Server) comparison(r *request) error {
	from := r.QueryParam("from")
	if from == "" {
		return service.Wrong("from", "is missing")
	}
	return r.tell(r.answers().Compare(r.Request().Context(), r.caller, from, r.QueryParam("to")))
}

func (s *Server) undoSeveral(r *request) error {
	o, err := r.edit()
	if err != nil {
		return err
	}
	var in wire.Undo
	if err := strictJSON(r.sent, &in); err != nil {
		return err
	}
	saved, err := s.service.Undo(r.Request().Context(), r.caller, in.Revisions, o)
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
	saved, err := s.service.Undo(r.Request().Context(), r.caller, []uint64{number}, o)
	return s.saved(r, saved, err, "", "")
}

func (s *Server) sheets(r *request) error {
	list, err := s.service.Sheets(r.caller)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, list)
}

func (s *Server) export(r *request) error {
	raw, err := r.flag("raw")
	if err != nil {
		return err
	}
	data, err := s.service.Export(r.caller, r.id(), raw)
	if err != nil {
		return err
	}
	r.Response().Header().Set("Content-Disposition", fmt.Sprintf("attachment; filename=%q", r.id()+".csv"))
	return r.send(http.StatusOK, "text/csv; charset=utf-8", data)
}

func (s *Server) importSheet(r *request) error {
	o, err := r.edit()
	if err != nil {
		return err
	}
	imported, err := s.service.Import(r.Request().Context(), r.caller, r.id(), r.sent, o)
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

func (s *Server) find(r *request) error {
	limit := 20
	if text := r.QueryParam("limit"); text != "" {
		var err error
		if limit, err = strconv.Atoi(text); err != nil || limit < 1 || limit > 200 {
			return service.Wrong("limit", "%q is out of range: 1 to 200", text)
		}
	}
	found, err := r.answers().Find(r.caller, r.QueryParam("q"), limit)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, found)
}
