// Package panel stands in for the equipment at a site: a lock, a bridge and a pump that ask a gate before they move, and a page that shows them. It knows
// nothing of the policy: what it does not hear from the gate it does not do.
package panel

import (
	"bytes"
	"context"
	_ "embed"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"net/http"
	"sync"
	"time"

	"sentier/internal/wire"
)

// Device is one that the panel has.
type Device struct {
	ID, Name    string
	Kind        string // lock, bridge or pump
	Rests, Acts string // what it does while it rests, and while it acts
	Do, Stop    string // what the buttons say
}

// Person is somebody who can stand before the panel.
type Person struct{ ID, Name string }

// Options are what a panel is made of.
type Options struct {
	Gate    string // where the gate answers
	Secret  string // that it knows the panel by
	Site    string // what the panel is of
	Place   string // id of that site, as the gate is told it
	Devices []Device
	People  []Person
	Client  *http.Client
	Clock   func() time.Time
}

// Panel is the panel of a site.
type Panel struct {
	Options
	mu    sync.Mutex
	state map[string]*state
}

// state is how a device stands.
type state struct {
	by   string // who has it act; empty: it rests
	said string // what it did or refused last
	at   time.Time
}

// askTime is in which a gate answers a panel, or the panel is dark.
const askTime = time.Second

// New prepares a panel.
func New(o Options) *Panel {
	p := &Panel{Options: o, state: map[string]*state{}}
	if p.Client == nil {
		p.Client = &http.Client{Transport: &http.Transport{Proxy: nil}, Timeout: askTime}
	}
	for _, d := range o.Devices {
		p.state[d.ID] = &state{}
	}
	return p
}

// errDark is that the gate does not answer.
var errDark = errors.New("the gate does not answer")

// asks asks the gate.
func (p *Panel) asks(ctx context.Context, person, right, device string) (wire.Decision, error) {
	var out wire.Decision
	body, err := json.Marshal(wire.Evaluation{
		Subject: wire.Entity{Type: "user", ID: person}, Action: wire.Action{Name: right}, Resource: wire.Entity{Type: "device", ID: device},
		Context: map[string]any{"place": p.Place, "attended": true},
	})
	if err != nil {
		return out, err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, p.Gate+"/access/v1/evaluation", bytes.NewReader(body))
	if err != nil {
		return out, err
	}
	req.Header.Set("Authorization", "Bearer "+p.Secret)
	req.Header.Set("Content-Type", "application/json")
	resp, err := p.Client.Do(req)
	if err != nil {
		return out, errDark
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return out, errDark
	}
	if err := json.NewDecoder(resp.Body).Decode(&out); err != nil {
		return wire.Decision{}, errDark
	}
	return out, nil
}

// Run has what acts ask again, each second: whoever may no longer has it stop. It ends with ctx.
func (p *Panel) Run(ctx context.Context) {
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(time.Second):
		}
		for _, d := range p.Devices {
			p.mu.Lock()
			by := p.state[d.ID].by
			p.mu.Unlock()
			if by == "" {
				continue
			}
			if answer, err := p.asks(ctx, by, "control", d.ID); err != nil || !answer.Decision {
				p.say(d.ID, "", fmt.Sprintf("stopped by itself: %s", why(answer, err)))
			}
		}
	}
}

func (p *Panel) say(device, by, text string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	*p.state[device] = state{by, text, p.Clock()}
}

// reasons are the codes in the words of a panel.
var reasons = map[string]string{
	"device_locked_out": "locked out", "outside_schedule": "not at this hour", "no_grant": "no right to it", "right_not_granted": "only to look at", "condition_not_met": "not from here",
	"not_current": "the gate has not heard of the service for too long", "clock_moved": "the gate does not trust its clock", "user_suspended": "suspended", "denied": "denied",
}

func why(d wire.Decision, err error) string {
	if err != nil {
		return err.Error()
	}
	if text, ok := reasons[d.Context.Reason]; ok {
		return text
	}
	return d.Context.Reason
}

// row is a device on the page.
type row struct {
	Device
	Lit      bool   // whoever stands there may move it
	Sees     bool   // they may look at it
	Acting   bool   // it acts
	Why      string // not lit
	Until    string // the light holds
	Said, At string
}

//go:embed panel.html
var pageText string

var page = template.Must(template.New("panel").Parse(pageText))

// ServeHTTP shows the panel, and takes its buttons.
func (p *Panel) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'; frame-ancestors 'none'")
	w.Header().Set("X-Content-Type-Options", "nosniff")
	w.Header().Set("Cache-Control", "no-store")
	switch {
	case r.URL.Path != "/":
		http.NotFound(w, r)
	case r.Method == http.MethodPost:
		p.press(w, r)
	case r.Method == http.MethodGet || r.Method == http.MethodHead:
		p.show(w, r)
	default:
		w.Header().Set("Allow", "GET, HEAD, POST")
		http.Error(w, http.StatusText(http.StatusMethodNotAllowed), http.StatusMethodNotAllowed)
	}
}

// person is who stands before the panel: one of those who can.
func (p *Panel) person(r *http.Request) Person {
	id := r.FormValue("person")
	for _, one := range p.People {
		if one.ID == id {
			return one
		}
	}
	return p.People[0]
}

func (p *Panel) show(w http.ResponseWriter, r *http.Request) {
	at := p.person(r)
	var rows []row
	dark := false
	for _, d := range p.Devices {
		control, err := p.asks(r.Context(), at.ID, "control", d.ID)
		view, err2 := p.asks(r.Context(), at.ID, "view", d.ID)
		dark = dark || err != nil || err2 != nil
		one := row{Device: d, Lit: err == nil && control.Decision, Sees: err2 == nil && view.Decision, Why: why(control, err)}
		if one.Lit && control.Context.Until != nil {
			one.Until = control.Context.Until.Local().Format("15:04")
		}
		p.mu.Lock()
		s := *p.state[d.ID]
		p.mu.Unlock()
		one.Acting, one.Said = s.by != "", s.said
		if s.said != "" {
			one.At = s.at.Local().Format("15:04:05")
		}
		rows = append(rows, one)
	}
	var out bytes.Buffer
	err := page.Execute(&out, map[string]any{"Site": p.Site, "At": at, "People": p.People, "Rows": rows, "Dark": dark})
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/html; charset=utf-8")
	_, _ = w.Write(out.Bytes()) // whoever has gone reads none
}

// press has a device act, or rest, where whoever has pressed may.
func (p *Panel) press(w http.ResponseWriter, r *http.Request) {
	r.Body = http.MaxBytesReader(w, r.Body, 4<<10)
	at := p.person(r)
	for _, d := range p.Devices {
		if d.ID != r.FormValue("device") {
			continue
		}
		answer, err := p.asks(r.Context(), at.ID, "control", d.ID)
		p.mu.Lock()
		acting := p.state[d.ID].by != ""
		p.mu.Unlock()
		switch {
		case err != nil || !answer.Decision:
			p.mu.Lock()
			p.state[d.ID].said, p.state[d.ID].at = fmt.Sprintf("refused %s: %s", at.Name, why(answer, err)), p.Clock()
			p.mu.Unlock()
		case acting:
			p.say(d.ID, "", fmt.Sprintf("%s, by %s", d.Rests, at.Name))
		default:
			p.say(d.ID, at.ID, fmt.Sprintf("%s, by %s", d.Acts, at.Name))
		}
	}
	http.Redirect(w, r, "/?person="+template.URLQueryEscaper(at.ID), http.StatusSeeOther)
}
