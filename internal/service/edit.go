package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/cespare/xxhash/v2"

	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/source"
	"sentier/internal/store"
	"sentier/internal/survey"
	"sentier/internal/translate"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// Asked is by what a repetition of a request is known.
type Asked struct {
	Key     string            // Idempotency-Key; empty: none
	Request [sha256.Size]byte // of the method, the path with its query and the body
}

// EditOptions are how a change is asked for.
type EditOptions struct {
	Asked
	DryRun bool     // change nothing, and say what it would change
	Impact bool     // on a dry run: say also who would gain and lose what
	Match  []string // entity tags, one of which the record must have, or the policy where it is no change of one record; none: any
	None   bool     // the record must not be there yet
	Note   string
	// Override are the ids of expectations in spite of which it is saved. Whoever may do all that an owner may can, and says why in Note.
	Override []string

	Draft   string                                 // id of a draft that it is put into, instead of being saved
	into    *draft                                 // one that is not kept yet; nil: the one that Draft names
	way     Way                                    // by which it comes; see [ways]
	about   string                                 // id of what it carries out: a draft, a request, a source
	brought []uint64                               // revisions that sources have brought and that are taken back, as they may be
	digest  string                                 // of what the caller has looked at and agrees to; empty: they have not
	beside  string                                 // what the note says after that, from "; " on: what was accepted, or overridden
	title   string                                 // what the note says before what the caller said in Note
	unmet   []wire.Unmet                           // that were overridden
	plan    *source.Plan                           // that it carries out; nil: none of a source
	rows    int                                    // about how many records are given; see manyRows
	of      *recordID                              // the one record that is changed; nil: several, or none yet
	keep    func(saved wire.Saved) ([]byte, error) // writes the answer that a repetition is given
}

// note is what the revision says of why.
func (o *EditOptions) note() string {
	said := strings.TrimSpace(o.Note)
	switch {
	case o.title == "" && o.beside == "":
		return o.Note
	case o.title != "" && said != "":
		said = o.title + ": " + said
	case o.title != "":
		said = o.title
	}
	return strings.TrimPrefix(said+o.beside, "; ")
}

type recordID struct {
	t  policy.Type
	id string
}

// PolicyTag is the entity tag of the policy at a revision.
func PolicyTag(revision uint64) string { return `"` + strconv.FormatUint(revision, 10) + `"` }

// matches tells whether one of the tags that a caller gave is a tag.
func (o *EditOptions) matches(tag string) bool {
	return len(o.Match) == 0 || slices.Contains(o.Match, tag) || slices.Contains(o.Match, "*")
}

// expectPolicy checks a caller's entity tags against the policy, for changes that are not of one record.
func (o *EditOptions) expectPolicy(now *State) error {
	if !o.matches(PolicyTag(now.Revision.Number)) {
		return &StaleError{Expected: o.Match[0], Now: now.Revision.Number}
	}
	return nil
}

// ConflictError is that a record is not as the caller has seen it.
type ConflictError struct{ Current policy.Record }

func (e *ConflictError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *ConflictError) Unwrap() error {
	if e.Current == nil {
		return policy.Say("the record is not there any more: somebody has removed it since you read it")
	}
	return policy.Say("%s has been changed since you read it: look at both versions", e.Current.Title())
}

// KeyError is that an Idempotency-Key was used for another request.
type KeyError struct{ Key string }

func (e *KeyError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *KeyError) Unwrap() error {
	return policy.Say("the Idempotency-Key %q stands for another request: choose a new one", e.Key)
}

// Tag is the entity tag of a record: the same for the same content. Of a long list it holds a quick hash, as a change to one entry of
// thousands would cost mostly its tag.
func Tag(r policy.Record) string { return tagOf(r, policy.Write(r)) }

// tagOf is [Tag] for a record that is written already.
func tagOf(r policy.Record, written json.RawMessage) string {
	list := xxhash.New()
	var room [policy.MaxID + 17]byte
	for _, e := range policy.LongEntries(r) {
		entry := append(room[:0], e.Value...)
		entry = append(entry, 0) // which is in no id
		entry = binary.BigEndian.AppendUint64(entry, uint64(e.From.UnixMicro()))
		list.Write(binary.BigEndian.AppendUint64(entry, uint64(e.Until.UnixMicro()))) // a hash never fails
	}
	sum := sha256.Sum256(list.Sum(slices.Clip(written)))
	return `"` + hex.EncodeToString(sum[:12]) + `"`
}

// keptAnswer is an answer as it is kept for repetitions of its request.
type keptAnswer struct {
	wire.Saved
	Entity string `json:"tag,omitempty"`
}

// tag is the entity tag of the record that is changed, as a policy has it.
func (o *EditOptions) tag(p *policy.Policy) string {
	if o.of == nil {
		return ""
	}
	if r, ok := p.Get(o.of.t, o.of.id); ok {
		return Tag(r)
	}
	return ""
}

// saved gives the answer to an edit, or the one that a request had of which it is a repetition.
func answerOf(saved wire.Saved, replayed []byte, err error) (wire.Saved, error) {
	if err != nil || replayed == nil {
		return saved, err
	}
	var kept keptAnswer
	if err := json.Unmarshal(replayed, &kept); err != nil {
		return saved, fmt.Errorf("read the answer that is kept: %w", err)
	}
	kept.Saved.Tag = kept.Entity
	return kept.Saved, nil
}

// lookAhead tells what a change would do to a state of the policy.
func (s *Service) lookAhead(ctx context.Context, now *State, c Caller, o *EditOptions, work func(now *State) (step, error)) (wire.Saved, error) {
	if err := s.Permit(now, c, Read, ""); err != nil {
		return wire.Saved{}, err
	}
	would, err := work(now)
	if !s.View(now, c).Whole() { // whoever sees a part is told of nothing that they could not do as well
		m := &making{Service: s, ctx: ctx, now: now, caller: c, o: o, work: func(*State) (step, error) { return would, err }}
		err = m.take(StepRead, StepPermit, StepKept)
	}
	if err != nil {
		return wire.Saved{}, err
	}
	out := wire.Saved{Revision: now.Revision.Number, Changes: translate.Changes(would.done)}
	asks := s.settings.Load().Approval.Asks()
	if len(would.done) > 0 && (o.Impact || asks || expects(would.policy)) {
		after := now.Compiled.Next(would.policy, would.done)
		if asks {
			m := &making{Service: s, ctx: ctx, now: now, caller: c, o: o, step: step{policy: would.policy, compiled: after, done: would.done}}
			if out.Approval, err = m.rules(); err != nil {
				return wire.Saved{}, err
			}
		}
		if out.Unmet = s.told(now, c, after, s.broken(now, after, would.done)); o.Impact {
			out.Impact = s.impact(c, now, after, would.done)
		}
	}
	return out, nil
}

// MostItems is how many devices or differences are told one by one.
const MostItems = 50

// impact tells who gains and loses what between two policies.
func (s *Service) impact(c Caller, now *State, after *decision.Compiled, done []policy.RecordChange) *wire.Impact {
	at := s.borders.Clock().UTC().Truncate(time.Microsecond)
	found := survey.Compare(now.Compiled, after, done, survey.Circumstances{At: at, Sites: s.View(now, c).Sites()}, MostItems)
	return wording.Accepted(c.Language).Impact(after.Policy(), found, at)
}

// repetition finds the answer to an earlier request with the same key. A request that changed nothing left no
// trace, and can safely be made again.
func (s *Service) repetition(ctx context.Context, c Caller, asked Asked) (answer []byte, repeated bool, err error) {
	r, err := s.borders.History.RevisionOf(ctx, string(c.User), asked.Key)
	if errors.Is(err, store.ErrNotFound) {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	if !bytes.Equal(asked.Request[:], r.RequestHash) || r.Answer == nil {
		return nil, false, &KeyError{asked.Key}
	}
	return r.Answer, true, nil
}

// expect checks a caller's entity tags against the one record that is changed, or against the policy.
func expect(now *State, o *EditOptions) error {
	r, ok := now.Policy.Get(o.of.t, o.of.id)
	switch {
	case o.None && ok:
		return &ConflictError{r}
	case len(o.Match) == 0, o.matches(PolicyTag(now.Revision.Number)):
		return nil
	case !ok:
		return &ConflictError{}
	case !o.matches(Tag(r)):
		return &ConflictError{r}
	}
	return nil
}

// Put makes a record what the body says, whether it is there or not.
func (s *Service) Put(ctx context.Context, c Caller, typeName, id string, body []byte, o EditOptions) (wire.Saved, error) {
	return s.Edit(ctx, c, wire.Edits{Changes: []wire.Edit{{Op: string(policy.Put), Type: typeName, ID: id, Record: body}}}, o)
}

// Patch changes fields of a record by a JSON Merge Patch, RFC 7396.
func (s *Service) Patch(ctx context.Context, c Caller, typeName, id string, body []byte, o EditOptions) (wire.Saved, error) {
	return s.Edit(ctx, c, wire.Edits{Changes: []wire.Edit{{Op: string(policy.Patch), Type: typeName, ID: id, Record: body}}}, o)
}

// readRecord reads the body of a record whose id the path gives; the body may say it again.
func readRecord(t policy.Type, id string, body []byte) (policy.Record, error) {
	r := policy.New(t)
	field := "id"
	if t == policy.SettingsType {
		field = "" // there is one record of them, without an id
	}
	if err := document.DecodeJSONWith(body, r, field, id); err != nil {
		return nil, err
	}
	if r.Key() != id {
		return nil, Wrong("id", "is %q, but the path says %q: give one of them, or the same", r.Key(), id)
	}
	return r, nil
}

// Create adds a record. An id is made from the name where the body gives none.
func (s *Service) Create(ctx context.Context, c Caller, typeName string, body []byte, o EditOptions) (wire.Saved, error) {
	t, ok := policy.TypeNamed(typeName)
	if !ok || t == policy.SettingsType {
		return wire.Saved{}, ErrNotFound
	}
	o.way, o.None, o.of = WayRecord, true, &recordID{t: t}
	saved, err := answerOf(s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) {
		var named struct{ ID, Name string }
		if json.Unmarshal(body, &named) == nil && named.ID == "" && named.Name != "" {
			named.ID = policy.MakeID(named.Name, func(id string) bool { _, taken := now.Policy.Get(t, id); return taken })
		}
		r := policy.New(t)
		if err := document.DecodeJSONWith(body, r, "id", named.ID); err != nil {
			return nil, err
		}
		o.of.id = r.Key()
		made := []policy.Change{{Op: policy.Put, Type: t, ID: r.Key(), Record: r}}
		if _, taken := now.Policy.Get(t, r.Key()); taken {
			if err := s.Rights(now, c).Touch(made[0]); err != nil && !s.View(now, c).Whole() {
				return nil, err // and not that there is one
			}
			return nil, &ExistsError{t, r.Key()}
		}
		return made, nil
	}))
	if err == nil && saved.ID == "" {
		saved.ID = o.of.id
	}
	return saved, err
}

// Remove takes a record away; with cascade, everything that mentions it is changed to mention it no more. Where somebody would
// gain anything by that, it is refused, unless the gains are accepted.
func (s *Service) Remove(ctx context.Context, c Caller, typeName, id string, cascade, accept bool, o EditOptions) (wire.Saved, error) {
	return s.Edit(ctx, c, wire.Edits{Changes: []wire.Edit{{Op: "remove", Type: typeName, ID: id, Cascade: cascade, Accept: accept}}}, o)
}

// Edit makes many changes, all or none.
func (s *Service) Edit(ctx context.Context, c Caller, edits wire.Edits, o EditOptions) (wire.Saved, error) {
	if len(edits.Changes) == 0 {
		return wire.Saved{}, Wrong("changes", "is empty: say what to change")
	}
	if edits.Note != "" {
		o.Note = edits.Note
	}
	o.rows = len(edits.Changes)
	only := o.rows == 1
	if o.way == "" {
		o.way = wayOf(edits.Changes)
	}
	read := make([]policy.Change, o.rows) // once, whoever else writes meanwhile
	for i := range edits.Changes {
		var err error
		if read[i], err = readEdit(&edits.Changes[i]); err != nil {
			return wire.Saved{}, prefixPath(err, fmt.Sprintf("changes[%d]", i), only)
		}
	}
	if only {
		o.of = &recordID{read[0].Type, read[0].ID}
	}
	saved, err := answerOf(s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) {
		if only {
			if err := expect(now, &o); err != nil {
				return nil, err
			}
		} else if err := o.expectPolicy(now); err != nil {
			return nil, err
		}
		var out []policy.Change
		c := c
		c.found = s.find(now, c) // once, for all of them
		for i := range read {
			changes, err := s.changesOf(c, now, &edits.Changes[i], read[i], &o)
			if err != nil {
				return nil, prefixPath(err, fmt.Sprintf("changes[%d]", i), only)
			}
			out = append(out, changes...)
		}
		return out, nil
	}))
	return saved, aboutEdits(edits.Changes, err)
}

// wayOf is the way by which edits come.
func wayOf(edits []wire.Edit) Way {
	switch {
	case slices.ContainsFunc(edits, func(e wire.Edit) bool { return e.Op == giveOp || e.Op == takeOp }):
		return WayAccess
	case len(edits) == 1:
		return WayRecord
	}
	return WayBatch
}

// cascade removes a record with its mentions, and looks whether somebody would gain anything by it.
func (s *Service) cascade(c Caller, now *State, t policy.Type, e wire.Edit, o *EditOptions) ([]policy.Change, error) {
	changes := now.Policy.Cascade(t, e.ID)
	next, done, err := now.Policy.Apply(changes)
	if err != nil {
		return changes, nil // the same fault will be told with the others
	}
	if v := s.View(now, c); slices.ContainsFunc(changes, func(x policy.Change) bool { return unseen(now, v, x.Type, x.ID) }) {
		return nil, &ForbiddenError{Missing: policy.Say("a mandate for all that it is about")}
	}
	reasons := now.Policy.Loosened(next, t, e.ID)
	switch {
	case len(reasons) == 0:
	case e.Accept:
		o.beside += "; gains accepted: " + wording.English.Loosened(reasons)
	default:
		return nil, &GainsError{reasons, s.impact(c, now, now.Compiled.Next(next, done), done)}
	}
	return changes, nil
}

// prefixPath puts the place of a change before the places of its faults, where there are several changes.
func prefixPath(err error, place string, only bool) error {
	if only {
		return err
	}
	var input *InputError
	var faults document.Faults
	switch {
	case errors.As(err, &input):
		return &InputError{Field: place + "." + input.Field, Problem: input.Problem}
	case errors.As(err, &faults):
		for i := range faults {
			faults[i].Path = place + ".record." + faults[i].Path
		}
		return faults
	case errors.Is(err, ErrNotFound):
		return Wrong(place, "%v", err)
	}
	return err
}

// Operations of an edit that are none of a change: they come to changes once the policy is known.
const (
	copyOp = "copy" // makes a record like another
	giveOp = "give" // see [policy.Policy.Give]
	takeOp = "take" // see [policy.Policy.TakeBack]
)

// readEdit reads an edit as far as that takes nothing of the policy. Of a copy it gives only which record it is of.
func readEdit(e *wire.Edit) (policy.Change, error) {
	t, ok := policy.TypeNamed(e.Type)
	if !ok {
		return policy.Change{}, Wrong("type", "%q is no type of record: write users, user_groups, devices, …", e.Type)
	}
	out := policy.Change{Op: policy.Op(e.Op), Type: t, ID: e.ID, List: e.List, Entry: policy.Entry{Value: e.Value, Name: e.Name}, Beside: e.Beside}
	var err error
	switch out.Op {
	case policy.Put:
		out.Record, err = readRecord(t, e.ID, e.Record)
	case policy.Patch:
		out.Patch, err = document.ReadPatch(t, e.Record)
	case policy.Add, policy.Drop:
		for _, end := range []struct {
			field, text string
			into        *time.Time
		}{{"from", e.From, &out.Entry.From}, {"until", e.Until, &out.Entry.Until}} {
			if end.text == "" {
				continue
			}
			if *end.into, err = policy.ParseInstant(end.text); err != nil {
				return out, Wrong(end.field, "%q %v", end.text, err)
			}
		}
	case giveOp, takeOp:
		if e.Access == nil || t != policy.Grants || e.ID != "" {
			return out, Wrong("access", "says who gets what: with give and take the type is grants, and the id is left empty")
		}
	case copyOp, policy.Remove:
	default:
		return out, Wrong("op", "%q is no operation: write put, patch, copy, remove, add, drop, give or take", e.Op)
	}
	return out, err
}

// changesOf gives the changes that an edit comes to, which is read already.
func (s *Service) changesOf(c Caller, now *State, e *wire.Edit, read policy.Change, o *EditOptions) ([]policy.Change, error) {
	_, there := now.Policy.Get(read.Type, read.ID)
	if there && read.Type != policy.SettingsType && unseen(now, s.View(now, c), read.Type, read.ID) {
		return nil, ErrNotFound
	}
	switch {
	case read.Op == copyOp:
		return copyRecord(now.Policy, read.Type, *e)
	case read.Op == giveOp, read.Op == takeOp:
		return access(now.Policy, s.Rights(now, c), read.Op, *e.Access)
	case read.Op == policy.Remove && e.Cascade && there:
		return s.cascade(c, now, read.Type, *e, o)
	case read.Op == policy.Patch && !there && o.of != nil:
		return nil, ErrNotFound
	}
	return []policy.Change{read}, nil
}
