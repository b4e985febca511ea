// Package gate is a small enforcement point for a site: it answers by the AuthZEN interface on an address of its own, from the policy that it follows, and says
// how it stands.
package gate

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"strings"
	"sync/atomic"
	"time"

	"github.com/labstack/echo/v5"

	"sentier/enforce"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/strict"
	"sentier/internal/translate"
	"sentier/internal/wire"
)

// Bounds.
const (
	mostBody    = 256 << 10 // bytes
	mostAtOnce  = 64        // requests
	mostInBatch = 200       // evaluations
	headerTime  = 5 * time.Second
	requestTime = 10 * time.Second
)

// Options are what a gate is made of.
type Options struct {
	Point *enforce.Point
	Hash  [sha256.Size]byte // of the secret that whoever asks sends as a bearer token
	// Record keeps a decision before it is answered; where it fails, nothing is answered. nil: none is kept.
	Record func(q *enforce.Question, a *enforce.Answer, from string) error
	Clock  func() time.Time
	Log    *slog.Logger
}

// Gate answers.
type Gate struct {
	Options
	echo  *echo.Echo
	room  chan struct{}
	asked atomic.Uint64
}

// Asked is how many decisions were answered since the start.
func (g *Gate) Asked() uint64 { return g.asked.Load() }

// New prepares a gate.
func New(o Options) *Gate {
	g := &Gate{Options: o, room: make(chan struct{}, mostAtOnce)}
	g.echo = echo.NewWithConfig(echo.Config{Logger: o.Log, HTTPErrorHandler: g.problem})
	g.echo.GET("/healthz", func(c *echo.Context) error { return c.JSON(http.StatusOK, map[string]string{"status": "alive"}) })
	g.echo.GET("/readyz", g.ready)
	g.echo.GET("/.well-known/authzen-configuration", g.metadata)
	g.echo.POST("/access/v1/evaluation", g.known(g.evaluation))
	g.echo.POST("/access/v1/evaluations", g.known(g.evaluations))
	return g
}

// ServeHTTP answers one request.
func (g *Gate) ServeHTTP(w http.ResponseWriter, r *http.Request) { g.echo.ServeHTTP(w, r) }

// Serve answers on a listener until ctx ends.
func (g *Gate) Serve(ctx context.Context, l net.Listener) error {
	server := &http.Server{Handler: g, ReadHeaderTimeout: headerTime, ReadTimeout: requestTime, WriteTimeout: requestTime, IdleTimeout: time.Minute, MaxHeaderBytes: 16 << 10, ErrorLog: slog.NewLogLogger(g.Log.Handler(), slog.LevelDebug)}
	ended := make(chan error, 1)
	go func() {
		<-ctx.Done()
		grace, cancel := context.WithTimeout(context.Background(), requestTime)
		defer cancel()
		ended <- server.Shutdown(grace)
	}()
	if err := server.Serve(l); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return <-ended
}

// fault is why a request is not answered.
type fault struct {
	status int
	detail string
}

func (f *fault) Error() string { return f.detail }

// told is what is told of an error: its status, as over HTTP, and why. What is nobody's fault but the gate's is in its log.
func (g *Gate) told(by string, err error) (status int, detail string) {
	var known *fault
	var coder echo.HTTPStatusCoder
	var input *translate.InputError
	var unread *strict.Error
	switch {
	case errors.As(err, &known):
		return known.status, known.detail
	case errors.As(err, &input):
		return http.StatusBadRequest, input.Error()
	case errors.As(err, &unread):
		return http.StatusBadRequest, unread.Error()
	case errors.As(err, &coder) && coder.StatusCode() < 500:
		return coder.StatusCode(), http.StatusText(coder.StatusCode())
	}
	g.Log.Error("a request failed", "by", policy.Clip(by), "error", err)
	return http.StatusInternalServerError, "the gate could not do this, and its log says why"
}

// knows tells whether an authorization carries the secret of the gate.
func (g *Gate) knows(authorization string) bool {
	scheme, secret, _ := strings.Cut(authorization, " ")
	sum := sha256.Sum256([]byte(strings.TrimSpace(secret)))
	return strings.EqualFold(scheme, "Bearer") && subtle.ConstantTimeCompare(sum[:], g.Hash[:]) == 1
}

// problem answers with a problem (RFC 9457).
func (g *Gate) problem(c *echo.Context, err error) {
	status, detail := g.told(c.Request().URL.Path, err)
	if status == http.StatusServiceUnavailable {
		c.Response().Header().Set("Retry-After", "1")
	}
	c.Response().Header().Set("Content-Type", "application/problem+json")
	c.Response().WriteHeader(status)
	body := map[string]any{"title": http.StatusText(status), "status": status, "detail": detail}
	if err := json.NewEncoder(c.Response()).Encode(body); err != nil {
		g.Log.Debug("an answer was not taken", "error", err)
	}
}

// known lets those ask who have the secret, few at once.
func (g *Gate) known(next echo.HandlerFunc) echo.HandlerFunc {
	return func(c *echo.Context) error {
		if id := c.Request().Header.Get("X-Request-ID"); id != "" && len(id) <= 128 {
			c.Response().Header().Set("X-Request-ID", id)
		}
		if !g.knows(c.Request().Header.Get("Authorization")) {
			return &fault{http.StatusUnauthorized, "send the secret of this gate, as “Authorization: Bearer …”"}
		}
		select {
		case g.room <- struct{}{}:
			defer func() { <-g.room }()
		default:
			return &fault{http.StatusServiceUnavailable, "too many ask at once"}
		}
		c.Response().Header().Set("Cache-Control", "no-store")
		return next(c)
	}
}

func (g *Gate) ready(c *echo.Context) error {
	s := g.Point.Standing()
	out := map[string]any{"status": "ready", "revision": s.Revision}
	if !s.Since.IsZero() {
		out["since"] = s.Since.UTC()
	}
	if s.Closed != "" {
		out["status"] = "opens nothing: " + string(s.Closed)
	}
	return c.JSON(http.StatusOK, out)
}

func (g *Gate) metadata(c *echo.Context) error {
	base := "http://" + c.Request().Host
	if c.Request().TLS != nil {
		base = "https://" + c.Request().Host
	}
	return c.JSON(http.StatusOK, map[string]string{
		"policy_decision_point": base, "access_evaluation_endpoint": base + "/access/v1/evaluation", "access_evaluations_endpoint": base + "/access/v1/evaluations",
	})
}

// body reads the body of a request.
func (g *Gate) body(c *echo.Context) ([]byte, error) {
	body, err := io.ReadAll(http.MaxBytesReader(c.Response(), c.Request().Body, mostBody))
	if errors.As(err, new(*http.MaxBytesError)) {
		return nil, &fault{http.StatusRequestEntityTooLarge, fmt.Sprintf("the body is longer than %d bytes", mostBody)}
	}
	if err != nil {
		return nil, &fault{http.StatusBadRequest, "the body did not come whole"}
	}
	return body, nil
}

func (g *Gate) evaluation(c *echo.Context) error {
	body, err := g.body(c)
	if err != nil {
		return err
	}
	q, err := translate.ReadEvaluation(body, g.Clock())
	if err != nil {
		return err
	}
	out, err := g.decide(from(c), &q)
	if err != nil {
		return err
	}
	return c.JSON(http.StatusOK, out)
}

// from is the address that a request came from.
func from(c *echo.Context) string {
	host, _, err := net.SplitHostPort(c.Request().RemoteAddr)
	if err != nil {
		return c.Request().RemoteAddr
	}
	return host
}

// decide answers one question.
func (g *Gate) decide(from string, asked *decision.Question) (*wire.Decision, error) {
	q := enforce.Question{
		User: string(asked.User), Right: string(asked.Right), Device: string(asked.Device), Point: string(asked.Point), At: asked.At, IP: asked.Context.IP, Place: string(asked.Context.Place),
		StrongSignIn: enforce.Known(asked.Context.StrongSignIn), Attended: enforce.Known(asked.Context.Attended),
	}
	a := g.Point.Ask(&q)
	g.asked.Add(1)
	if g.Record != nil {
		if err := g.Record(&q, &a, from); err != nil {
			g.Log.Error("a decision could not be recorded, and is not answered", "error", err)
			return nil, &fault{http.StatusServiceUnavailable, "the decision cannot be recorded now"}
		}
	}
	out := &wire.Decision{Decision: a.Allowed, Context: wire.DecisionContext{Reason: string(a.Reason), Revision: a.Revision}}
	if !a.Until.IsZero() {
		until := a.Until.UTC()
		out.Context.Until = &until
	}
	for name, l := range a.Limits {
		if out.Context.Limits == nil {
			out.Context.Limits = map[string]policy.Limit{}
		}
		out.Context.Limits[name] = policy.Limit{Number: l.Number, Texts: l.Texts}
	}
	return out, nil
}

// evaluations answers several, as the service does.
func (g *Gate) evaluations(c *echo.Context) error {
	body, err := g.body(c)
	if err != nil {
		return err
	}
	in, err := translate.ReadEvaluations(body)
	if err != nil {
		return err
	}
	batch, err := translate.NewBatch(&in, mostInBatch, g.Clock())
	if err != nil {
		return err
	}
	if batch.Len() == 0 {
		q, err := batch.Alone()
		if err != nil {
			return err
		}
		out, err := g.decide(from(c), &q)
		if err != nil {
			return err
		}
		return c.JSON(http.StatusOK, out)
	}
	out := struct {
		Evaluations []*wire.Decision `json:"evaluations"`
	}{[]*wire.Decision{}}
	for i := range batch.Len() {
		var d *wire.Decision
		q, fault := batch.Question(i)
		if fault != nil {
			denied := translate.NotRead(g.Point.Standing().Revision, fault)
			d = &denied
		} else if d, err = g.decide(from(c), &q); err != nil {
			return err
		}
		if out.Evaluations = append(out.Evaluations, d); batch.Stops(d.Decision) {
			break
		}
	}
	return c.JSON(http.StatusOK, out)
}
