package service

import (
	"context"
	"crypto/ed25519"
	"encoding/hex"
	"encoding/json"
	"errors"
	"strings"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/database"
	"sentier/internal/decision"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Record is where what was done, asked and refused is kept. An [audit.Record] is one.
type Record interface {
	Add(entries ...audit.Entry) error
	AddFrom(machine string, kinds []audit.Kind, entries []audit.Entry) error
	Note(e audit.Entry)
	Search(ctx context.Context, f audit.Filter, limit int) (audit.Page, error)
	Each(ctx context.Context, f audit.Filter, visit func(*audit.Entry) error) error
	Follow(ctx context.Context, after uint64, f audit.Filter, quiet time.Duration, visit func(*audit.Entry) error) error
	LastOf(ctx context.Context, kind audit.Kind) (audit.Entry, bool, error)
	Last() uint64
	Writes() *database.Writes
	Sign() (audit.Checkpoint, error)
	Verify(ctx context.Context, against audit.Against) (audit.Verified, error)
	PublicKey() ed25519.PublicKey
	AnnounceKey(ctx context.Context) error
	Keep(ctx context.Context, keep func() time.Duration)
	CopyInto(ctx context.Context, path string, upTo uint64) error
	Notice() string
}

// entry is an entry of what a caller has done.
func (s *Service) entry(c Caller, kind audit.Kind, outcome string) audit.Entry {
	return audit.Entry{At: s.borders.Clock(), Kind: kind, Outcome: outcome, By: string(c.User), Via: c.Via, Token: c.Token, From: policy.Clip(c.From), Revision: s.State().Revision.Number}
}

// details are what an entry says beside.
type details map[string]any

func (d details) json() json.RawMessage {
	out, err := json.Marshal(d)
	if err != nil {
		panic(err) // texts, numbers and times can be written
	}
	return out
}

// note keeps that a caller has done something to an account. It was done, and cannot be taken back.
func (s *Service) note(c Caller, kind audit.Kind, outcome, user string, more details) {
	e := s.entry(c, kind, outcome)
	e.User = policy.Clip(user)
	if len(more) > 0 {
		e.More = more.json()
	}
	s.borders.Record.Note(e)
}

// mostTouched is how many records the entry of a change names.
const mostTouched = 20

// changed keeps that a revision was made.
func (s *Service) changed(c Caller, next *State, done []policy.RecordChange) {
	e := s.entry(c, audit.Change, audit.Done)
	e.At, e.Revision, e.Via = next.Revision.At, next.Revision.Number, next.Revision.Via
	touched := make([]store.Touched, 0, min(len(done), mostTouched))
	for _, d := range done[:min(len(done), mostTouched)] {
		r := d.Record()
		touched = append(touched, store.Touched{Type: r.Type().String(), ID: r.Key(), Made: d.Before == nil, Ended: d.After == nil})
	}
	s.borders.Record.Note(changeEntry(e, next.Revision, touched, len(done)))
}

// changeEntry completes the entry of a change: what it touched, why, and by which hash the history holds it.
func changeEntry(e audit.Entry, r store.Revision, touched []store.Touched, all int) audit.Entry {
	type record struct {
		Type string `json:"type"`
		ID   string `json:"id"`
		Did  string `json:"did"`
	}
	records := []record{}
	one := map[string]string{} // the only record of a type
	for _, t := range touched {
		records = append(records, record{t.Type, t.ID, t.Op()})
		if _, several := one[t.Type]; several {
			t.ID = ""
		}
		one[t.Type] = t.ID
	}
	e.User, e.Device = one[policy.Users.String()], one[policy.Devices.String()]
	more := details{"records": records, "chain": hex.EncodeToString(r.Chain)}
	if all > len(records) {
		more["all"] = all
	}
	if r.Note != "" {
		more["note"] = r.Note
	}
	e.More = more.json()
	return e
}

// beginRecord brings the record up to the policy: where it has just begun, it says so; revisions that it lacks, as the service was ended between
// the two, are entered.
func (s *Service) beginRecord(ctx context.Context) error {
	rec := s.borders.Record
	if notice := rec.Notice(); notice != "" {
		s.borders.Log.Warn(notice)
	}
	machine := Caller{Via: "service"}
	now := s.State().Revision.Number
	if rec.Last() == 0 {
		if err := s.bringLooks(ctx); err != nil {
			return err
		}
		e := s.entry(machine, audit.Service, audit.Made)
		e.More = details{"what": "the record begins here: what was changed before stands in the history alone"}.json()
		if err := rec.Add(e); err != nil {
			return err
		}
	} else if _, follows := s.follows(); !follows { // whose record has what was changed
		if err := s.catchUpRecord(ctx, now); err != nil {
			return err
		}
	}
	return rec.AnnounceKey(ctx)
}

// catchUpRecord enters the revisions that the record lacks.
func (s *Service) catchUpRecord(ctx context.Context, now uint64) error {
	last, err := s.lastRecorded(ctx)
	if err != nil {
		return err
	}
	if last > now {
		e := s.entry(Caller{Via: "service"}, audit.Service, audit.Refused)
		e.More = details{"what": "the database ends at a revision before the last one that the record tells of: it was put back from a copy", "recorded": last, "revision": now}.json()
		return s.borders.Record.Add(e)
	}
	for number := last + 1; number <= now; number++ {
		list, err := s.borders.History.Revisions(ctx, store.Which{UpTo: number}, 1)
		if err != nil || len(list) == 0 {
			return err
		}
		touched, all, err := s.borders.History.TouchedBy(ctx, number, mostTouched)
		if err != nil {
			return err
		}
		r := list[0]
		e := audit.Entry{At: r.At, Kind: audit.Change, Outcome: audit.Done, By: r.By, Via: r.Via, Revision: r.Number}
		if err := s.borders.Record.Add(changeEntry(e, r, touched, all)); err != nil {
			return err
		}
	}
	return nil
}

// lastRecorded is the last revision that the record tells of.
func (s *Service) lastRecorded(ctx context.Context) (uint64, error) {
	var last uint64
	for _, kind := range []audit.Kind{audit.Change, audit.Service, audit.Closing} {
		e, _, err := s.borders.Record.LastOf(ctx, kind)
		if err != nil {
			return 0, err
		}
		last = max(last, e.Revision)
	}
	return last, nil
}

// bringLooks enters the looks that were kept before there was a record.
func (s *Service) bringLooks(ctx context.Context) error {
	list, err := s.borders.Looks.Looks(ctx, audit.MaxPage)
	for i := len(list) - 1; i >= 0 && err == nil; i-- {
		l := list[i]
		err = s.borders.Record.Add(audit.Entry{At: l.At, Kind: audit.Look, Outcome: audit.Done, By: l.By, User: l.UserID})
	}
	return err
}

// Decided keeps a decision, where the settings say so: whoever is answered is in the record. place and address are those of the question.
func (s *Service) Decided(st *State, c Caller, list ...Decided) error {
	keep := s.settings.Load()
	var entries []audit.Entry
	var one [1]audit.Entry // the usual case needs no room on the heap
	if len(list) == 1 {
		entries = one[:0]
	}
	for i := range list {
		if d := &list[i]; keep.decision(st, d) {
			entries = append(entries, s.decided(c, d, st))
		}
	}
	if len(entries) == 0 {
		return nil
	}
	return s.kept(s.borders.Record.Add(entries...))
}

// Decided is a question and how it was answered.
type Decided struct {
	Question *decision.Question
	Reason   string
	Asked    bool // by somebody who looks after others, about one of them: it is kept whatever the settings say of decisions
}

func (s *Service) decided(c Caller, d *Decided, st *State) audit.Entry {
	q := d.Question
	e := audit.Entry{
		At: s.borders.Clock(), Kind: audit.Decision, Outcome: d.Reason, By: string(c.User), Via: c.Via, Token: c.Token, From: policy.Clip(c.From),
		User: policy.Clip(string(q.User)), Right: policy.Clip(string(q.Right)), Device: policy.Clip(string(q.Device)), Point: policy.Clip(string(q.Point)), Revision: st.Revision.Number,
	}
	if d.Asked {
		e.Kind = audit.Question
	}
	e.More = circumstances(q, e.At)
	return e
}

// circumstances are what a question said of them; empty: nothing.
func circumstances(q *decision.Question, now time.Time) json.RawMessage {
	c := &q.Context
	if !c.IP.IsValid() && c.Place == "" && c.StrongSignIn == 0 && c.Attended == 0 && q.At.Sub(now).Abs() < time.Minute {
		return nil
	}
	more := details{}
	if c.IP.IsValid() {
		more["ip"] = c.IP.String()
	}
	if c.Place != "" {
		more["place"] = policy.Clip(string(c.Place))
	}
	for name, v := range map[string]decision.Tri{"strong_sign_in": c.StrongSignIn, "attended": c.Attended} {
		if v != 0 {
			more[name] = v == decision.True
		}
	}
	if q.At.Sub(now).Abs() >= time.Minute {
		more["at"] = q.At.UTC()
	}
	return more.json()
}

// Looked keeps that a caller has looked at what concerns somebody else; what says how.
func (s *Service) Looked(c Caller, kind audit.Kind, user, what string) error {
	e := s.entry(c, kind, audit.Done)
	e.User = policy.Clip(user)
	if what != "" {
		e.More = details{"what": what}.json()
	}
	return s.kept(s.borders.Record.Add(e))
}

// Refusal is what somebody was refused.
type Refusal struct {
	What    string // they wanted to do
	Route   string // by which way
	About   string // ids of what, or whom, it was about; empty: nothing is named
	Missing string // that would have let them
}

// Refused keeps that a caller was refused something.
func (s *Service) Refused(c Caller, r Refusal) {
	e := s.entry(c, audit.Refusal, audit.Refused)
	f := s.folds.named(folding{e.Kind, e.By, e.Token, e.From, policy.Clip(r.About), r.What + "\x00" + r.Missing}, e.At)
	if s.folds.first(f, e.At) {
		more := details{"what": r.What, "route": r.Route, "missing": r.Missing}
		if f.about != "" {
			more["about"] = f.about
		}
		e.More = more.json()
		s.borders.Record.Note(e)
	}
}

// AboutError is an error with the ids of what the change was about that it refuses.
type AboutError struct {
	error
	About string
}

// Unwrap is the error.
func (e *AboutError) Unwrap() error { return e.error }

// aboutEdits puts the ids of what some edits are about to the error that refuses them.
func aboutEdits(edits []wire.Edit, err error) error {
	if err == nil || !errors.As(err, new(*ForbiddenError)) && !errors.Is(err, ErrNotFound) {
		return err
	}
	var about []string
	for _, e := range edits[:min(len(edits), mostTouched)] {
		if e.Access != nil {
			about = append(about, e.Type)
			continue
		}
		one := e.Type + "/" + e.ID
		if e.Value != "" {
			one += "/" + e.Value
		}
		about = append(about, one)
	}
	return &AboutError{err, strings.Join(about, " ")}
}

// foldTime is for how long refusals of the same thing to the same caller are counted together.
const foldTime = time.Minute

// mostFolded bounds how many kinds of refusals are counted at once. What comes beyond is kept each by itself.
const mostFolded = 4096

// folding is by what refusals are the same.
type folding struct {
	kind                         audit.Kind
	by, token, from, about, what string
}

// folds counts refusals, so that whoever tries on and on fills no record: the first is kept at once, and how many more there were in the
// minute after it as one entry.
type folds struct {
	mu    sync.Mutex
	since map[folding]*folded
	names map[[3]string]*named // by who, with which credential and from where
}

// named is how many targets of refusals were named for somebody since an instant.
type named struct {
	at    time.Time
	times int
}

// mostNamed bounds how many targets are named for somebody in a minute: whoever tries more is counted, so that no target is hidden by the harmless ones
// before it, and nobody fills the disk.
const mostNamed = 100

// named gives what a refusal is counted as: without its target, where too many were named for the same caller.
func (f *folds) named(of folding, now time.Time) folding {
	f.mu.Lock()
	defer f.mu.Unlock()
	if _, known := f.since[of]; known {
		return of
	}
	who := [3]string{of.by, of.token, of.from}
	n := f.names[who]
	if n == nil || now.Sub(n.at).Abs() >= foldTime {
		if f.names == nil || len(f.names) >= mostFolded {
			f.names = map[[3]string]*named{}
		}
		n = &named{at: now}
		f.names[who] = n
	}
	if n.times++; n.times > mostNamed {
		of.about = ""
	}
	return of
}

type folded struct {
	at    time.Time
	times int
}

// first counts a refusal, and tells whether it is to be kept by itself.
func (f *folds) first(of folding, now time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if one, ok := f.since[of]; ok {
		one.times++
		return false
	}
	if f.since == nil {
		f.since = map[folding]*folded{}
	}
	if len(f.since) < mostFolded {
		f.since[of] = &folded{at: now}
	}
	return true
}

// ended lists what was counted for long enough, or all, and begins anew with it.
func (f *folds) ended(now time.Time, all bool) map[folding]folded {
	f.mu.Lock()
	defer f.mu.Unlock()
	out := map[folding]folded{}
	for of, one := range f.since {
		if all || now.Sub(one.at).Abs() >= foldTime {
			out[of] = *one
			delete(f.since, of)
		}
	}
	return out
}

// keepFolds keeps what was counted of refusals.
func (s *Service) keepFolds(all bool) {
	for of, one := range s.folds.ended(s.borders.Clock(), all) {
		if one.times > 0 {
			e := s.entry(Caller{User: policy.UserID(of.by), Token: of.token, From: of.from}, of.kind, audit.Refused)
			what, _, _ := strings.Cut(of.what, "\x00")
			more := details{"what": what, "times": one.times, "since": one.at.UTC()}
			if of.about != "" {
				more["about"] = of.about
			}
			e.More = more.json()
			s.borders.Record.Note(e)
		}
	}
}

// Record is what was done, asked and refused.
func (s *Service) Record() Record { return s.borders.Record }

// TokenOf finds a token or a session by its id.
func (s *Service) TokenOf(id string) (store.Token, bool) { return s.who.TokenOf(id) }

// AuditVerified tells what a verification of the record has found. The error is of one that could not be done.
func AuditVerified(v audit.Verified, err error) (wire.AuditVerified, error) {
	out := wire.AuditVerified{Whole: err == nil, Entries: v.Entries, Checkpoints: v.Checkpoints, Marked: v.Marked}
	if v.Entries > 0 {
		out.First, out.Last = &v.First.At, &v.Last.At
	}
	if err != nil {
		out.Wrong = err.Error()
	}
	if errors.As(err, new(*store.WrongError)) || errors.Is(err, store.ErrDamaged) {
		err = nil // it is what was asked
	}
	return out, err
}

// Against reads what a record is to be held against.
func Against(in wire.VerifyAudit) (audit.Against, error) {
	var out audit.Against
	var err error
	if in.Key != "" {
		if out.Key, err = audit.ParseKey(in.Key); err != nil {
			return out, Wrong("key", "%v", err)
		}
	}
	for i, c := range in.Checkpoints {
		var one audit.Checkpoint
		line, err := json.Marshal(c)
		if err == nil {
			err = json.Unmarshal(line, &one)
		}
		if err != nil {
			return out, Wrong("checkpoints", "number %d is none: %v", i+1, err)
		}
		out.Checkpoints = append(out.Checkpoints, one)
	}
	return out, nil
}
