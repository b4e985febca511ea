package server

import (
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"runtime"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"sentier/internal/service"
)

// Bounds of what goes on at once. What comes beyond is told to come again.
const (
	mostRequests = 512 // of callers who are known
	mostOfOne    = 256 // of one user
	mostOfOwn    = 8   // of a user who may ask about nobody else
	mostSignIns  = 64  // requests without a credential whose body is read
	mostStreams  = 512
	mostWaiting  = 8        // heavy requests that wait for their turn
	mostLarge    = 256      // requests with a large body that wait for theirs
	mostBytes    = 64 << 20 // of bodies beyond their first few, of requests that are not heavy
	fewBytes     = 64 << 10 // of a body that is worked on at once, and a step in which larger ones are counted
	leastRate    = 64 << 10 // bytes a second by which the body of a heavy request must come
)

// Times that a request may take.
const (
	headerTime  = 10 * time.Second
	requestTime = 30 * time.Second // to send all of it
	answerTime  = time.Minute
	heavyTime   = 10 * time.Minute // of a document or a sheet, to be sent, worked on and answered
	heavyWait   = 30 * time.Second // for the heavy requests before
)

// busyError is that the service has its hands full.
type busyError struct{ after time.Duration }

func (e *busyError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *busyError) Unwrap() error {
	return service.Say("the service has more to do than it takes on at once: try again in %s", e.after)
}

// retryAfter writes a time for the header of that name, in whole seconds and at least one.
func retryAfter(d time.Duration) string {
	return strconv.Itoa(max(1, int((d+time.Second-1)/time.Second)))
}

// room bounds how much of a kind goes on at once.
type room chan struct{}

func (r room) enter() (leave func(), err error) {
	select {
	case r <- struct{}{}:
		return func() { <-r }, nil
	default:
		return nil, &busyError{time.Second}
	}
}

// callerRoom bounds how much callers who are known have going on at once, together and each by themselves.
type callerRoom struct {
	all  room
	mu   *sync.Mutex
	each map[string]int
}

func newCallerRoom() callerRoom {
	return callerRoom{make(room, mostRequests), &sync.Mutex{}, map[string]int{}}
}

// enter lets a user in who has fewer than most requests going on.
func (r callerRoom) enter(user string, most int) (leave func(), err error) {
	out, err := r.all.enter()
	if err != nil {
		return nil, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.each[user] >= most {
		out()
		return nil, &busyError{time.Second}
	}
	r.each[user]++
	return func() {
		out()
		r.mu.Lock()
		defer r.mu.Unlock()
		if r.each[user]--; r.each[user] == 0 {
			delete(r.each, user)
		}
	}, nil
}

// admit makes room for a request. What reads nothing and is open to all needs none.
func (s *Server) admit(r route, req *request) (leave func(), err error) {
	switch {
	case r.stream || r.open && r.takes == nothing:
		return func() {}, nil
	case r.open:
		return s.signIns.enter()
	}
	most := mostOfOne
	if req.own = s.service.May(&req.caller, service.Ask) != nil; req.own {
		most = mostOfOwn
	}
	return s.requests.enter(string(req.caller.User), most)
}

// byteRoom bounds how many bytes of a kind are held at once.
type byteRoom struct{ free atomic.Int64 }

func (r *byteRoom) take(n int64) error {
	if r.free.Add(-n) < 0 {
		r.free.Add(n)
		return &busyError{time.Second}
	}
	return nil
}

// counted reads a body, and makes sure of room for it as it comes.
type counted struct {
	io.Reader
	room       *byteRoom
	read, held int64
}

func (c *counted) Read(into []byte) (int, error) {
	n, err := c.Reader.Read(into)
	for c.read += int64(n); c.read > c.held+fewBytes; c.held += fewBytes {
		if full := c.room.take(fewBytes); full != nil {
			return n, full
		}
	}
	return n, err
}

// steadily is until when the next part of a body or an answer must go, of which some bytes have gone since begun: as long as grace more than what
// has gone may take at the least rate, and never longer than a heavy request may take in all.
func steadily(begun time.Time, grace time.Duration, gone int64) time.Time {
	return begun.Add(min(grace+time.Duration(gone/leastRate)*time.Second, heavyTime))
}

// steady reads the body of a heavy request, which has to come steadily, as others wait for it.
type steady struct {
	io.Reader
	control *http.ResponseController
	begun   time.Time
	read    int64
}

func (s *steady) Read(into []byte) (int, error) {
	if err := s.control.SetReadDeadline(steadily(s.begun, headerTime, s.read)); err != nil {
		return 0, err
	}
	n, err := s.Reader.Read(into)
	s.read += int64(n)
	if errors.Is(err, io.EOF) { // all has come: now it is the service's time that counts
		if late := s.control.SetReadDeadline(s.begun.Add(heavyTime)); late != nil {
			return n, late
		}
	}
	return n, err
}

// steadyWriter writes the answer to a heavy request, which has to be taken steadily, as others wait for it.
type steadyWriter struct {
	io.Writer
	control *http.ResponseController
	begun   time.Time
	written int64
}

func (s *steadyWriter) Write(data []byte) (int, error) {
	if err := s.control.SetWriteDeadline(steadily(s.begun, sendTime, s.written)); err != nil {
		return 0, err
	}
	n, err := s.Writer.Write(data)
	s.written += int64(n)
	return n, err
}

// pace slows refusals down when there are more than a service in good use has: whoever is refused costs little then.
type pace struct {
	mu   sync.Mutex
	debt time.Time // until when the refusals so far are used up
}

const (
	refusalTime   = 2 * time.Millisecond   // that one refusal uses up
	refusalBurst  = 200 * time.Millisecond // of that time that is given without waiting
	refusalsAhead = 500 * time.Millisecond // that refusals wait in a row; more wait for about as long, each for a time of its own
)

// wait is for how long the next refusal is held back.
func (p *pace) wait(now time.Time) time.Duration {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.debt.Before(now) {
		p.debt = now
	}
	ahead := p.debt.Sub(now) - refusalBurst
	if ahead > refusalsAhead {
		return refusalsAhead/2 + rand.N(refusalsAhead)
	}
	p.debt = p.debt.Add(refusalTime)
	return ahead
}

// heavyRoom lets few heavy requests work at once, on half of the processors, so that a question beside them is answered as quickly as ever; some more
// may wait. Where nobody has asked anything else for a while, the other half may be worked on as well.
type heavyRoom struct {
	working room
	spare   room
	waiting room
	others  *lastAsked // nil: there may always be others
}

func newHeavyRoom(waiting int, others *lastAsked) heavyRoom {
	half := max(1, runtime.NumCPU()/2)
	return heavyRoom{make(room, half), make(room, runtime.NumCPU()-half), make(room, waiting), others}
}

func (r heavyRoom) enter(ctx context.Context) (leave func(), err error) {
	unqueue, err := r.waiting.enter()
	if err != nil {
		return nil, &busyError{10 * time.Second}
	}
	defer unqueue()
	late := time.NewTimer(heavyWait)
	defer late.Stop()
	spare := r.spare
	if r.others == nil || !r.others.quiet(time.Now()) {
		spare = nil
	}
	select {
	case r.working <- struct{}{}:
		return func() { <-r.working }, nil
	case spare <- struct{}{}:
		return func() { <-spare }, nil
	case <-late.C:
		return nil, &busyError{10 * time.Second}
	case <-ctx.Done():
		return nil, &busyError{time.Second}
	}
}

// lastAsked is when anything was last asked that is not heavy.
type lastAsked struct{ nanoseconds atomic.Int64 }

// quietFor is how long nothing else must have been asked before batches may have all processors.
const quietFor = 250 * time.Millisecond

func (l *lastAsked) note(now time.Time) { l.nanoseconds.Store(now.UnixNano()) }

func (l *lastAsked) quiet(now time.Time) bool {
	return now.Sub(time.Unix(0, l.nanoseconds.Load())).Abs() > quietFor // a clock may have been set back
}

// extend gives a heavy request, whose caller may make it, the time that it needs.
func extend(w http.ResponseWriter) error {
	control := http.NewResponseController(w)
	until := time.Now().Add(heavyTime)
	if err := control.SetReadDeadline(until); err != nil {
		return fmt.Errorf("give the request time: %w", err)
	}
	return control.SetWriteDeadline(until)
}
