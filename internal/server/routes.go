package server

import (
	"fmt"
	"net/http"
	"strconv"
	"time"

	"sentier/internal/answers"
	"sentier/internal/schema"
	"sentier/internal/service"
	"sentier/internal/wire"
)

func (s *Server) routes() []route {
	list := []route{
		{id: "isAlive", here: true, method: "GET", path: "/healthz", tag: "operation", summary: "Is the process alive?", open: true, out: health{}, handle: s.healthy},
		{id: "isReady", here: true, method: "GET", path: "/readyz", tag: "operation", summary: "Can questions be answered?", open: true, out: health{}, handle: s.ready},
		{id: "getMetrics", here: true, method: "GET", path: "/metrics", produces: []string{"text/plain"}, tag: "operation", summary: "Figures in the Prometheus text format", needs: service.Whole, handle: s.metrics.handle},
		{id: "getProblemPage", here: true, method: "GET", path: "/problems/{kind}", produces: []string{"text/html"}, tag: "operation", summary: "What a kind of problem means, and what mends it", open: true, in: kindPath{}, handle: s.problemPages},
		{id: "getDescription", here: true, method: "GET", path: "/api/v1/openapi.json", tag: "operation", summary: "This description", handle: s.describeSelf},

		{id: "getPolicySchema", here: true, method: "GET", path: "/schemas/policy.json", tag: "policy", summary: "The JSON Schema of policy documents", open: true, produces: []string{"application/schema+json"}, handle: s.schemaOf(schema.Policy())},
		{id: "getExpectationsSchema", here: true, method: "GET", path: "/schemas/expectations.json", tag: "policy", summary: "The JSON Schema of files of expectations", open: true, produces: []string{"application/schema+json"}, handle: s.schemaOf(schema.Expectations())},

		{id: "needsSetUp", method: "GET", path: "/api/v1/set-up", tag: "session", summary: "Does the service wait for its first owner?", open: true, out: wire.SetUpNeeded{}, handle: s.needsSetUp},
		{id: "setUp", method: "POST", path: "/api/v1/set-up", tag: "session", summary: "Make the first owner by the code that the start has printed, and sign in", open: true, in: wire.SetUp{}, takes: smallJSON, out: wire.Session{}, handle: s.setUp},
		{id: "listSignOns", method: "GET", path: "/api/v1/sign-on", tag: "session", summary: "Providers at which one may sign in; a browser goes to /sign-on/{id}", open: true, out: []wire.SignOnProvider{}, handle: s.signOns},
		{id: "openSession", method: "POST", path: "/api/v1/session", tag: "session", summary: "Sign in", open: true, in: wire.Credentials{}, takes: smallJSON, out: wire.Session{}, handle: s.signIn},
		{id: "getSession", here: true, method: "GET", path: "/api/v1/session", tag: "session", summary: "Who is signed in?", out: wire.Session{}, handle: s.session},
		{id: "closeSession", method: "DELETE", path: "/api/v1/session", tag: "session", summary: "Sign out", status: 204, handle: s.signOut},

		{id: "changePassword", method: "PUT", path: "/api/v1/session/password", tag: "session", summary: "Change your own password; all your other sessions end", in: wire.NewPassword{}, takes: smallJSON, out: wire.Session{}, handle: s.changePassword},
		{id: "getPreferences", method: "GET", path: "/api/v1/session/preferences", tag: "session", summary: "How you have the console", out: wire.Preferences{}, handle: s.preferences},
		{id: "setPreferences", method: "PUT", path: "/api/v1/session/preferences", tag: "session", summary: "Have the console so from now on, wherever you sign in", in: wire.Preferences{}, takes: smallJSON, out: wire.Preferences{}, handle: s.setPreferences},
		{id: "listFactors", method: "GET", path: "/api/v1/session/factors", tag: "session", summary: "Your own second factors", out: []wire.SecondFactor{}, handle: s.factors},
		{id: "beginFactor", method: "POST", path: "/api/v1/session/factors", tag: "session", summary: "Begin to set up a second factor: a program that makes codes by RFC 6238", in: wire.NewFactor{}, takes: smallJSON, out: wire.Enrolling{}, handle: s.beginFactor},
		{id: "confirmFactor", method: "POST", path: "/api/v1/session/factors/confirm", tag: "session", summary: "Keep the second factor that was begun in this session, by a code of it", in: wire.FactorProof{}, takes: smallJSON, out: wire.FactorMade{}, status: 201, handle: s.confirmFactor},
		{id: "beginPasskey", method: "POST", path: "/api/v1/session/passkeys", tag: "session", summary: "Begin to make a passkey (WebAuthn)", in: wire.NewFactor{}, takes: smallJSON, out: wire.Ceremony{}, handle: s.beginPasskey},
		{id: "confirmPasskey", method: "POST", path: "/api/v1/session/passkeys/confirm", tag: "session", summary: "Keep the passkey that the browser has made", in: wire.PasskeyMade{}, takes: plainJSON, out: wire.FactorMade{}, status: 201, handle: s.confirmPasskey},
		{id: "beginPasskeySignIn", method: "POST", path: "/api/v1/session/passkey", tag: "session", summary: "Begin to sign in by a passkey", open: true, out: wire.Ceremony{}, handle: s.beginPasskeySignIn},
		{id: "signInByPasskey", method: "POST", path: "/api/v1/session/passkey/sign-in", tag: "session", summary: "Sign in by what a passkey has signed", open: true, in: wire.PasskeySigned{}, takes: smallJSON, out: wire.Session{}, handle: s.signInByPasskey},
		{id: "dropFactor", method: "POST", path: "/api/v1/session/factors/{id}/removal", tag: "session", summary: "Take one of your own second factors away", in: []any{idPath{}, wire.OwnProof{}}, takes: smallJSON, status: 204, handle: s.dropFactor},
		{id: "newRecoveryCodes", method: "POST", path: "/api/v1/session/recovery-codes", tag: "session", summary: "New recovery codes, in the place of those that you have", in: wire.OwnProof{}, takes: smallJSON, out: wire.RecoveryCodes{}, status: 201, handle: s.recoveryCodes},
		{id: "resetFactors", method: "DELETE", path: "/api/v1/users/{id}/factors", tag: "tokens", summary: "Take all second factors of somebody away, who has lost them; their sessions end", in: idPath{}, needs: service.Manage, status: 204, handle: s.resetFactors},
		{id: "givePassword", method: "PUT", path: "/api/v1/users/{id}/password", tag: "tokens", summary: "Give a user a password, which they change before anything else", in: []any{idPath{}, wire.GivenPassword{}}, needs: service.Manage, takes: smallJSON, status: 204, handle: s.givePassword},
		{id: "getSignIns", method: "GET", path: "/api/v1/users/{id}/sign-ins", tag: "tokens", summary: "How a user comes in: password, second factors, sessions, tokens", in: idPath{}, needs: service.Whole, out: wire.SignIns{}, handle: s.signInsOf},
		{id: "endSessionsOf", method: "DELETE", path: "/api/v1/users/{id}/sessions", tag: "tokens", summary: "End all sessions of a user", in: idPath{}, needs: service.Manage, status: 204, handle: s.endSessionsOf},
		{id: "listSessions", method: "GET", path: "/api/v1/sessions", tag: "session", summary: "Your own sessions", out: []wire.OwnSession{}, handle: s.sessions},
		{id: "endOtherSessions", method: "DELETE", path: "/api/v1/sessions", tag: "session", summary: "End your other sessions", status: 204, handle: s.endSessions},
		{id: "endSession", method: "DELETE", path: "/api/v1/sessions/{id}", tag: "session", summary: "End one of your own sessions", in: idPath{}, status: 204, handle: s.endSession},
		{id: "setPasswordByLink", method: "POST", path: "/api/v1/welcome", tag: "session", summary: "Set a password by a link, and sign in", open: true, in: wire.Welcome{}, takes: smallJSON, out: wire.Session{}, handle: s.welcome},
		{id: "inviteUser", method: "POST", path: "/api/v1/users/{id}/invitation", tag: "tokens", summary: "Make a link, good once and for a week, by which a user sets a password", in: idPath{}, needs: service.Write, out: wire.Invitation{}, status: 201, handle: s.invite},
		{id: "verifyFiles", method: "GET", path: "/api/v1/verify", tag: "operation", summary: "Are the files what was written? The first thing that is wrong", needs: service.Whole, heavy: true, out: wire.Verified{}, handle: s.verify},
		{id: "getBackup", method: "GET", path: "/api/v1/backup", produces: []string{"application/vnd.sqlite3"}, tag: "operation", summary: "A verified copy of the database, one file", needs: service.Manage, heavy: true, handle: s.backup},
		{id: "check", past: true, method: "POST", path: "/api/v1/check", tag: "decisions", summary: "May this user do this to that device, why, and until when?", in: wire.Check{}, takes: plainJSON, out: wire.Answer{}, handle: s.check},
		{id: "advise", here: true, method: "POST", path: "/api/v1/advice", tag: "decisions", summary: "What would turn an answer, the change that changes least beside it first", in: wire.AdviceQuestion{}, needs: service.Read, takes: plainJSON, out: wire.Advice{}, handle: answer(answers.Service.Advise)},
		{id: "getWeek", past: true, method: "POST", path: "/api/v1/week", tag: "decisions", summary: "How answers run over some days", in: wire.WeekQuestion{}, takes: plainJSON, out: wire.Week{}, handle: answer(answers.Service.Week)},
		{id: "getMatrix", past: true, method: "POST", path: "/api/v1/matrix", heavy: true, tag: "decisions", summary: "Users or user groups against devices, device groups or sites", in: wire.MatrixQuestion{}, needs: service.Read, takes: plainJSON, out: wire.Matrix{}, handle: answer(answers.Service.Matrix)},
		{id: "previewSchedule", here: true, method: "POST", path: "/api/v1/preview/schedule", tag: "decisions", summary: "How a schedule, saved or not, will run", in: wire.ScheduleQuestion{}, needs: service.Read, takes: plainJSON, out: wire.Fortnight{}, handle: answer(answers.Service.PreviewSchedule)},
		{id: "readTime", here: true, method: "POST", path: "/api/v1/time", tag: "decisions", summary: "Which instant is meant by a time in words, and by whose clock", in: wire.TimeQuestion{}, needs: service.Read, takes: plainJSON, out: wire.Time{}, handle: answer(answers.Service.ReadTime)},
		{id: "previewMatch", here: true, method: "POST", path: "/api/v1/preview/match", tag: "decisions", summary: "Which devices a match, saved or not, selects", in: wire.MatchQuestion{}, needs: service.Read, takes: plainJSON, out: wire.Matched{}, handle: answer(answers.Service.PreviewMatch)},
		{id: "getReachOfUser", past: true, method: "GET", path: "/api/v1/reach/users/{id}", tag: "reach", summary: "What a user reaches", in: reachQuery{}, out: wire.Reach{}, handle: s.reach("users")},
		{id: "getReachOfUserGroup", past: true, method: "GET", path: "/api/v1/reach/user_groups/{id}", tag: "reach", summary: "What a user group amounts to: what somebody reaches who is in it alone", in: reachQuery{}, out: wire.Reach{}, handle: s.reach("user_groups")},
		{id: "getReachOfDevice", past: true, method: "GET", path: "/api/v1/reach/devices/{id}", tag: "reach", summary: "Who reaches a device, or one of its points", in: deviceReachQuery{}, out: wire.Reach{}, handle: s.reach("devices")},
		{id: "countHolders", past: true, method: "GET", path: "/api/v1/reach/devices", tag: "reach", summary: "How many users have which right on each of some devices", in: holdersQuery{}, needs: service.Ask, heavy: true, out: []wire.Held{}, handle: s.holders},
		{id: "proveExpectations", past: true, method: "GET", path: "/api/v1/proof", tag: "reach", summary: "Which expectations of the policy hold over the 400 days to come, and what breaks each of the others", in: proofQuery{}, needs: service.Whole, heavy: true, out: wire.Proof{}, handle: s.proof},
		{id: "getToday", method: "GET", path: "/api/v1/today", tag: "reach", summary: "The first look: what is open, what ends this week, what is locked out, what happened last", needs: service.Read, heavy: true, out: wire.Today{}, handle: s.today},
		{id: "listGroups", past: true, method: "GET", path: "/api/v1/groups/{type}/{id}", tag: "reach", summary: "The groups that a user or a device is in, with their ends, and why", in: recordPath{}, needs: service.Read, hides: true, out: []wire.Belongs{}, handle: s.groups},
		{id: "listHistory", past: true, method: "GET", path: "/api/v1/history/{type}/{id}", tag: "reach", summary: "The last revisions that changed a record", in: recordPath{}, needs: service.Read, hides: true, out: []wire.Happened{}, handle: s.history},
		{id: "listUses", past: true, method: "GET", path: "/api/v1/uses/{type}/{id}", tag: "reach", summary: "The lines of grants that make use of a grant, role, right, schedule, site, device group or user group", in: usesQuery{}, needs: service.Read, hides: true, heavy: true, out: []wire.Use{}, handle: s.uses},
		{id: "seeAsUser", past: true, method: "GET", path: "/api/v1/seen/{id}", tag: "reach", summary: "The service as a user would meet it; recorded", in: reachQuery{}, out: wire.Seen{}, handle: s.seen},
		{id: "listLooks", method: "GET", path: "/api/v1/looks", tag: "reach", summary: "Who has looked at the service as another user sees it", out: []wire.Look{}, needs: service.Whole, handle: s.looks},

		{id: "getAuthzenConfiguration", here: true, method: "GET", path: "/.well-known/authzen-configuration", tag: "decisions", summary: "OpenID AuthZEN metadata", open: true, out: wire.AuthZEN{}, handle: s.authzen},
		{id: "evaluateMany", here: true, method: "POST", path: "/access/v1/evaluations", tag: "decisions", summary: "OpenID AuthZEN access evaluations, up to 10,000", in: wire.Evaluations{}, needs: service.Ask, takes: manyJSON, out: wire.Decided{}, handle: s.evaluateMany},
		{id: "searchSubjects", here: true, method: "POST", path: "/access/v1/search/subject", tag: "decisions", summary: "OpenID AuthZEN subject search", in: wire.Search{}, takes: plainJSON, out: wire.SearchResult{}, handle: s.search(answers.SearchSubjects)},
		{id: "searchResources", here: true, method: "POST", path: "/access/v1/search/resource", tag: "decisions", summary: "OpenID AuthZEN resource search", in: wire.Search{}, takes: plainJSON, out: wire.SearchResult{}, handle: s.search(answers.SearchResources)},
		{id: "searchActions", here: true, method: "POST", path: "/access/v1/search/action", tag: "decisions", summary: "OpenID AuthZEN action search", in: wire.Search{}, takes: plainJSON, out: wire.SearchResult{}, handle: s.search(answers.SearchActions)},
		{id: "evaluate", here: true, method: "POST", path: "/access/v1/evaluation", tag: "decisions", summary: "OpenID AuthZEN access evaluation", in: wire.Evaluation{}, takes: plainJSON, out: wire.Decision{}, handle: s.evaluate},

		{id: "getPolicy", past: true, method: "GET", path: "/api/v1/policy", produces: []string{"application/yaml", "application/json"}, tag: "policy", summary: "The whole policy as a document", in: dumpQuery{}, needs: service.Whole, heavy: true, handle: s.dump},
		{id: "loadPolicy", method: "PUT", path: "/api/v1/policy", tag: "policy", summary: "Put a policy document in the place of the policy", in: loadQuery{}, needs: service.Replace, takes: policyText, heavy: true, out: wire.Saved{}, handle: s.load},
		{id: "listNames", past: true, method: "GET", path: "/api/v1/names", tag: "records", summary: "Names by type and id", in: namesQuery{}, out: map[string]map[string]string{}, needs: service.Read, handle: s.names},

		{id: "getCounts", past: true, method: "GET", path: "/api/v1/counts", tag: "records", summary: "How many devices each site and device group has, by itself and with all below", out: service.Counts{}, needs: service.Read, handle: s.counts},
		{id: "listTokens", method: "GET", path: "/api/v1/tokens", tag: "tokens", summary: "Tokens, without their secrets", in: tokensQuery{}, needs: service.Whole, out: []wire.Token{}, handle: s.tokens},
		{id: "createToken", method: "POST", path: "/api/v1/tokens", tag: "tokens", summary: "Make a token; its secret is shown this once", in: []any{keyHeader{}, wire.NewToken{}}, needs: service.Manage, takes: plainJSON, out: wire.Token{}, status: 201, handle: s.createToken},
		{id: "rotateToken", method: "POST", path: "/api/v1/tokens/{id}/rotation", tag: "tokens", summary: "Make a token in the place of another, which holds beside it for a while; its secret is shown this once", in: []any{idPath{}, wire.Rotation{}}, bodyless: true, needs: service.Manage, takes: smallJSON, out: wire.Token{}, status: 201, handle: s.rotateToken},
		{id: "revokeToken", method: "DELETE", path: "/api/v1/tokens/{id}", tag: "tokens", summary: "Revoke a token", in: idPath{}, status: 204, handle: s.revokeToken},
	}
	for _, t := range wire.RecordTypes() {
		base := "/api/v1/" + t.Name
		list = append(list,
			route{id: "list" + t.Many, past: true, method: "GET", path: base, tag: "records", summary: "List of " + t.Noun + "s", in: listQuery{}, filters: answers.Filters(t.Name), needs: service.Read, record: t.Name, list: true, handle: s.list(t.Name)},
			route{id: "get" + t.Type, past: true, method: "GET", path: base + "/{id}", tag: "records", summary: "One " + t.Noun, in: idPath{}, record: t.Name, handle: s.get(t.Name)},
			route{id: "listMentionsOf" + t.Type, past: true, method: "GET", path: base + "/{id}/mentions", tag: "records", summary: "What refers to a " + t.Noun, in: idPath{}, out: []wire.Mention{}, handle: s.mentions(t.Name)},
		)
	}
	return list
}

type (
	health struct {
		Status string `json:"status"`
	}
	idPath struct {
		ID string `path:"id"`
	}
	dumpQuery struct {
		Format string `query:"format" enum:"yaml,json"`
	}
	loadQuery struct {
		savingQuery
		IfMatch string `header:"If-Match" description:"entity tags of the policy, one of which it must have"`
	}
	proofQuery struct {
		At string `query:"at" description:"from when on: RFC 3339, or a local time of the policy; left out: now"`
	}
	kindPath struct {
		Kind string `path:"kind"`
	}
	keyHeader struct {
		IdempotencyKey string `header:"Idempotency-Key" description:"a repetition with the same key makes no second token, and is answered with the first"`
	}
	tokensQuery struct {
		User string `query:"user"`
	}
	listQuery struct {
		Short  bool   `query:"short" description:"leave out long lists (members of user groups, devices of device groups), and count them in entries"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000"`
		Cursor string `query:"cursor"`
		Q      string `query:"q" description:"a word to search for"`
		Sort   string `query:"sort" description:"a field, with - before it from the end: -name; numbers in names count as numbers"`
	}
	recordPath struct {
		Type string `path:"type"`
		ID   string `path:"id"`
	}
	namesQuery struct {
		Of []string `query:"of" maxItems:"1000" description:"records as type/id; left out: all of each type that has up to 5,000"`
	}
)

func (s *Server) healthy(r *request) error { return r.JSON(http.StatusOK, health{"ok"}) }

// ready tells whether questions are answered; and, where they are, whether changes can be kept as well.
func (s *Server) ready(r *request) error {
	status, err := s.service.Ready()
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, health{status})
}

// schemaOf serves a schema, which stays as it is.
func (s *Server) schemaOf(of schema.Schema) func(*request) error {
	body := pack(of.JSON())
	return func(r *request) error {
		body.serve(r.Response(), r.Request(), "application/schema+json")
		return nil
	}
}

func (s *Server) describeSelf(r *request) error {
	doc, err := s.openAPI()
	if err != nil {
		return fmt.Errorf("describe the HTTP interface: %w", err)
	}
	doc.serve(r.Response(), r.Request(), "application/json")
	return nil
}

func (s *Server) verify(r *request) error {
	found, err := s.service.Verify(r.Request().Context(), r.caller)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, found)
}

// backup sends a copy of the database, which is verified before its first byte is sent.
func (s *Server) backup(r *request) error {
	file, done, err := s.service.Backup(r.Request().Context(), r.caller)
	if err != nil {
		return err
	}
	defer done()
	r.done()
	h := r.Response().Header()
	h.Set("Content-Type", "application/vnd.sqlite3")
	h.Set("Content-Disposition", `attachment; filename="sentier-backup.db"`)
	http.ServeContent(r.Response(), r.Request(), "sentier-backup.db", time.Time{}, file)
	return nil
}

func (s *Server) check(r *request) error {
	var in wire.Check
	if err := r.decode(&in); err != nil {
		return err
	}
	answer, err := r.answers().Check(r.caller, in)
	if err != nil {
		return err
	}
	s.metrics.decided(byCheck, answer.Allowed, answer.Reason)
	return r.JSON(http.StatusOK, answer)
}

// evaluate is lenient about unknown members, as the standard allows extensions.
func (s *Server) evaluate(r *request) error {
	var in wire.Evaluation
	if err := r.lenient(&in); err != nil {
		return err
	}
	answer, err := r.answers().Evaluate(r.caller, &in)
	if err != nil {
		return err
	}
	s.metrics.decided(byEvaluation, answer.Decision, answer.Context.Reason)
	return r.quick(&answer)
}

func (s *Server) dump(r *request) error {
	syntax, kind := service.YAML, "application/yaml"
	switch format := r.QueryParam("format"); format {
	case "", "yaml":
	case "json":
		syntax, kind = service.JSON, "application/json"
	default:
		return service.Wrong("format", "%q is no syntax of a policy: write yaml or json", format)
	}
	write, revision, err := s.service.Dump(r.answers().State(), r.caller, syntax)
	if err != nil {
		return err
	}
	r.Response().Header().Set("ETag", service.PolicyTag(revision))
	return r.pour(kind, write)
}

func (s *Server) load(r *request) error {
	o, err := r.edit()
	if err != nil {
		return err
	}
	syntax := service.Syntax("")              // as it looks
	switch media, _ := r.mediaType(); media { // which is known to be readable
	case "application/json":
		syntax = service.JSON
	case "application/yaml":
		syntax = service.YAML
	}
	loaded, err := s.service.Load(r.Request().Context(), r.caller, r.sent, syntax, o)
	if err != nil {
		return err
	}
	r.Response().Header().Set("ETag", service.PolicyTag(loaded.Revision))
	return r.JSON(http.StatusOK, loaded)
}

func (s *Server) names(r *request) error {
	return r.tell(r.answers().Names(r.caller, r.QueryParams()["of"]))
}

func (s *Server) proof(r *request) error {
	return r.tell(r.answers().Proof(r.caller, r.QueryParam("at")))
}

func (s *Server) today(r *request) error {
	return r.tell(r.answers().Today(r.Request().Context(), r.caller))
}

func (s *Server) groups(r *request) error {
	return r.tell(r.answers().Groups(r.caller, r.Param("type"), r.id()))
}

func (s *Server) history(r *request) error {
	return r.tell(r.answers().HistoryOf(r.Request().Context(), r.caller, r.Param("type"), r.id()))
}

func (s *Server) counts(r *request) error {
	return r.tell(r.answers().Counts(r.caller))
}

func (s *Server) list(typeName string) func(*request) error {
	return func(r *request) error {
		q := answers.Query{Cursor: r.QueryParam("cursor"), Search: r.QueryParam("q"), Sort: r.QueryParam("sort"), Filter: map[string]string{}}
		for name, values := range r.QueryParams() {
			switch name {
			case "cursor", "q", "sort", asOf:
			case "short":
				var err error
				if q.Short, err = r.flag("short"); err != nil {
					return err
				}
			case "limit":
				var err error
				if q.Limit, err = strconv.Atoi(values[0]); err != nil || q.Limit == 0 {
					return service.Wrong("limit", "%q is no number of records", values[0])
				}
			default:
				q.Filter[name] = values[0]
			}
		}
		page, err := r.answers().List(r.caller, typeName, q)
		if err != nil {
			return err
		}
		r.next(page.Next)
		return r.JSON(http.StatusOK, page)
	}
}

func (s *Server) get(typeName string) func(*request) error {
	return func(r *request) error {
		record, err := r.answers().Get(r.caller, typeName, r.id())
		if err != nil {
			return err
		}
		r.Response().Header().Set("ETag", r.answers().Tag(record))
		r.Response().Header().Set("Allow", r.answers().Methods(r.caller, record))
		return r.JSON(http.StatusOK, record)
	}
}

func (s *Server) mentions(typeName string) func(*request) error {
	return func(r *request) error {
		list, err := r.answers().Mentions(r.caller, typeName, r.Param("id"))
		if err != nil {
			return err
		}
		return r.JSON(http.StatusOK, list)
	}
}
