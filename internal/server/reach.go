package server

import (
	"bytes"
	"fmt"
	"net/http"
	"strconv"

	"github.com/labstack/echo/v5"

	"sentier/internal/answers"
	"sentier/internal/service"
	"sentier/internal/strict"
	"sentier/internal/translate"
	"sentier/internal/wire"
)

// degree is how possible something is.
type degree string

// Enum lists what it can be, for the description.
func (degree) Enum() []any { return []any{"now", "later", "if"} }

type (
	possibleQuery struct { // of every question about what is possible
		At           string   `query:"at" description:"RFC 3339, or a local time; left out: now"`
		Degree       []degree `query:"degree" description:"how possible; several times for more; left out: all"`
		IP           string   `query:"ip" description:"address that the request comes from"`
		Place        string   `query:"place" description:"id of the site at which the user is"`
		StrongSignIn *bool    `query:"strong_sign_in"`
		Attended     *bool    `query:"attended"`
	}
	reachQuery struct {
		ID string `path:"id"`
		possibleQuery
		Right  string `query:"right" description:"only this right"`
		Limit  int    `query:"limit" minimum:"1" maximum:"1000"`
		Cursor string `query:"cursor"`
	}
	deviceReachQuery struct {
		reachQuery
		Point string `query:"point" description:"of the device"`
	}
	holdersQuery struct {
		IDs []string `query:"id" maxItems:"200" description:"of devices"`
		possibleQuery
	}
	usesQuery struct {
		Type string `path:"type"`
		ID   string `path:"id"`
		possibleQuery
	}
)

// answer serves a question whose body is read strictly and whose answer is sent as it is.
func answer[In, Out any](ask func(answers.Service, service.Caller, In) (Out, error)) func(*request) error {
	return func(r *request) error {
		var in In
		if err := r.decode(&in); err != nil {
			return err
		}
		return r.tell(ask(r.answers(), r.caller, in))
	}
}

// tell answers with what was found, or with why nothing was.
func (r *request) tell(out any, err error) error {
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, out)
}

func (r *request) reachQuery() (q answers.ReachQuery, err error) {
	q = answers.ReachQuery{At: r.QueryParam("at"), Right: r.QueryParam("right"), Point: r.QueryParam("point"), Cursor: r.QueryParam("cursor")}
	q.Context.IP, q.Context.Place = r.QueryParam("ip"), r.QueryParam("place")
	q.Degrees = r.QueryParams()["degree"]
	for name, into := range map[string]**bool{"strong_sign_in": &q.Context.StrongSignIn, "attended": &q.Context.Attended} {
		if r.QueryParam(name) == "" {
			continue
		}
		v, err := r.flag(name)
		if err != nil {
			return q, err
		}
		*into = &v
	}
	if text := r.QueryParam("limit"); text != "" {
		if q.Limit, err = strconv.Atoi(text); err != nil || q.Limit == 0 {
			return q, service.Wrong("limit", "%q is no number of records", text)
		}
	}
	return q, nil
}

func (s *Server) reach(typeName string) func(*request) error {
	return func(r *request) error {
		q, err := r.reachQuery()
		if err != nil {
			return err
		}
		out, err := r.answers().Reach(r.caller, typeName, r.id(), q)
		if err != nil {
			return err
		}
		r.next(out.Next)
		return r.JSON(http.StatusOK, out)
	}
}

func (s *Server) holders(r *request) error {
	q, err := r.reachQuery()
	if err != nil {
		return err
	}
	return r.tell(r.answers().Holders(r.caller, r.QueryParams()["id"], q))
}

func (s *Server) seen(r *request) error {
	q, err := r.reachQuery()
	if err != nil {
		return err
	}
	out, err := r.answers().Seen(r.Request().Context(), r.caller, r.id(), q)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, out)
}

func (s *Server) looks(r *request) error {
	return r.tell(r.answers().Looks(r.Request().Context(), r.caller))
}

func (s *Server) uses(r *request) error {
	q, err := r.reachQuery()
	if err != nil {
		return err
	}
	list, err := r.answers().Uses(r.caller, r.Param("type"), r.id(), q)
	if err != nil {
		return err
	}
	return r.JSON(http.StatusOK, list)
}

// next links the next page of a list, RFC 8288.
func (r *request) next(cursor string) {
	if cursor == "" {
		return
	}
	next := *r.Request().URL
	query := next.Query()
	query.Set("cursor", cursor)
	next.RawQuery = query.Encode()
	r.Response().Header().Set("Link", fmt.Sprintf(`<%s%s>; rel="next"`, r.prefix, next.RequestURI()))
}

// lenient reads a body of the AuthZEN interface, which allows members that are not known here.
func (r *request) lenient(into any) error {
	data, err := r.body()
	if err != nil {
		return err
	}
	return unread(strict.ReadOpen(data, into))
}

// quick answers as [request.JSON] does, for what is asked tens of thousands of times a second.
func (r *request) quick(v interface {
	AppendJSON(out []byte) ([]byte, error)
}) error {
	data, err := v.AppendJSON(make([]byte, 0, 256))
	if err != nil {
		return err
	}
	r.done()
	return r.Blob(http.StatusOK, echo.MIMEApplicationJSON, data)
}

// fewEvaluations is the size of a batch that is worked on at once, in bytes.
const fewEvaluations = 4 << 10

// fewObjects is more than the objects of the evaluations that there can be about oneself: more are refused unread.
const fewObjects = 8 * answers.MaxOwnEvaluations

func (s *Server) evaluateMany(r *request) error {
	var in wire.Evaluations
	data, err := r.body()
	if err != nil {
		return err
	}
	if fewEvaluations < len(data) && len(data) <= fewBytes {
		if err := r.queue(s.large); err != nil {
			return err
		}
		if r.own && bytes.Count(data, []byte("{")) > fewObjects {
			return service.Wrong("evaluations", "are many: about oneself one request has up to %d", answers.MaxOwnEvaluations)
		}
	}
	if in, err = translate.ReadEvaluations(data); err != nil {
		return unread(err)
	}
	if len(in.Evaluations) == 0 { // the standard: then it is one evaluation
		out, err := r.answers().EvaluateAlone(r.caller, &in)
		if err != nil {
			return err
		}
		s.metrics.decided(byEvaluations, out.Decision, out.Context.Reason)
		return r.JSON(http.StatusOK, out)
	}
	out, err := r.answers().EvaluateMany(r.caller, &in)
	if err != nil {
		return err
	}
	for _, d := range out.Evaluations {
		s.metrics.decided(byEvaluations, d.Decision, d.Context.Reason)
	}
	return r.quick(&out)
}

func (s *Server) search(what answers.SearchFor) func(*request) error {
	return func(r *request) error {
		var in wire.Search
		if err := r.lenient(&in); err != nil {
			return err
		}
		out, err := r.answers().Search(r.caller, what, &in)
		if err != nil {
			return err
		}
		return r.JSON(http.StatusOK, out)
	}
}

// authzen describes the endpoints where clients reach them.
func (s *Server) authzen(r *request) error {
	base := s.base()
	return r.JSON(http.StatusOK, wire.AuthZEN{
		Point: base, Evaluation: base + "/access/v1/evaluation", Evaluations: base + "/access/v1/evaluations",
		SearchSubject: base + "/access/v1/search/subject", SearchResource: base + "/access/v1/search/resource", SearchAction: base + "/access/v1/search/action",
	})
}
