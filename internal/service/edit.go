package service

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"sentier/internal/decision"
	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/translate"
	"sentier/internal/wire"
)

// EditOptions are how a change is asked for.
type EditOptions struct {
	Dry   bool   // change nothing, and say what it would change
	Look  bool   // on a dry run: say also who would gain and lose what
	Match string // entity tag that the record must have; empty: any
	None  bool   // the record must not be there yet
	Key   string // Idempotency-Key; empty: none
	Body  []byte // of the request, to tell a repetition from another request with the same key
	Note  string
}

// ConflictError is that a record is not as the caller has seen it.
type ConflictError struct{ Current policy.Record }

func (e *ConflictError) Error() string {
	if e.Current == nil {
		return "the record is not there any more: somebody has removed it since you read it"
	}
	return fmt.Sprintf("%s has been changed since you read it: look at both versions", e.Current.Title())
}

// KeyError is that an Idempotency-Key was used for another request.
type KeyError struct{ Key string }

func (e *KeyError) Error() string {
	return fmt.Sprintf("the Idempotency-Key %q stands for another request: choose a new one", e.Key)
}

// Tag is the entity tag of a record: the same for the same content.
func Tag(r policy.Record) string {
	body, err := json.Marshal(r)
	if err != nil {
		panic("service: a record does not marshal: " + err.Error())
	}
	sum := sha256.Sum256(body)
	return `"` + hex.EncodeToString(sum[:12]) + `"`
}

// edit is the way of every change of records: build is called with the policy as it is, while no other change can
// come in between.
func (s *Service) edit(ctx context.Context, c Caller, o EditOptions, build func(p *policy.Policy) ([]policy.Change, error)) (wire.Saved, error) {
	if o.Dry {
		return s.lookAhead(c, o, build)
	}
	defer s.progress.begin(c, o.Key)()
	ctx = context.WithoutCancel(ctx) // a change that was asked for in full is made, though the caller may have gone
	s.writing.Lock()
	defer s.writing.Unlock()
	now := s.State()
	if err := s.may(now, c, Write, ""); err != nil {
		return wire.Saved{}, err
	}
	if o.Key != "" {
		if saved, repeated, err := s.repetition(ctx, c, o); repeated || err != nil {
			return saved, err
		}
	}
	changes, err := build(now.Policy)
	if err != nil {
		return wire.Saved{}, err
	}
	next, done, err := s.apply(ctx, now, c, o, func(p *policy.Policy) (*policy.Policy, []policy.RecordChange, error) {
		return p.Apply(changes)
	})
	if err != nil {
		return wire.Saved{}, err
	}
	return wire.Saved{Saved: true, Revision: next.Revision.Number, Changes: translate.Changes(done)}, nil
}

func (s *Service) lookAhead(c Caller, o EditOptions, build func(p *policy.Policy) ([]policy.Change, error)) (wire.Saved, error) {
	now := s.State()
	if err := s.may(now, c, Read, ""); err != nil {
		return wire.Saved{}, err
	}
	changes, err := build(now.Policy)
	if err != nil {
		return wire.Saved{}, err
	}
	next, done, err := now.Policy.Apply(changes)
	if err != nil {
		return wire.Saved{}, err
	}
	return s.wouldBe(now, next, done, o.Look), nil
}

// wouldBe tells what a step to another policy would change, and with look who would gain and lose what now.
func (s *Service) wouldBe(now *State, next *policy.Policy, done []policy.RecordChange, look bool) wire.Saved {
	out := wire.Saved{Revision: now.Revision.Number, Changes: translate.Changes(done)}
	if look && len(done) > 0 {
		d := decision.Compare(now.Compiled, now.Compiled.Next(next, done), done, decision.Circumstances{At: s.now()}, mostItems)
		out.Impact = translate.Impact(next, d)
	}
	return out
}

// repetition finds what an earlier request with the same key did. A request that changed nothing left no
// trace, and can safely be made again.
func (s *Service) repetition(ctx context.Context, c Caller, o EditOptions) (out wire.Saved, repeated bool, err error) {
	r, err := s.store.RevisionOf(ctx, string(c.User), o.Key)
	if errors.Is(err, store.ErrNotFound) {
		return out, false, nil
	}
	if err != nil {
		return out, false, err
	}
	sum := sha256.Sum256(o.Body)
	if !bytes.Equal(sum[:], r.RequestHash) {
		return out, false, &KeyError{o.Key}
	}
	touched, err := s.touched(ctx, r.Number)
	if err != nil {
		return out, false, err
	}
	out = wire.Saved{Saved: true, Revision: r.Number, Changes: []wire.Change{}}
	for _, t := range touched {
		out.Changes = append(out.Changes, wire.Change{Op: t.Op, Type: t.Type, ID: t.ID, Name: t.ID})
		if t.Op == "added" && len(touched) == 1 {
			out.ID = t.ID
		}
	}
	return out, true, nil
}

// expect checks a caller's entity tag against a record.
func expect(p *policy.Policy, t policy.Type, id string, o EditOptions) error {
	r, ok := p.Get(t, id)
	switch {
	case o.None && ok:
		return &ConflictError{r}
	case o.Match != "" && !ok:
		return &ConflictError{}
	case o.Match != "" && o.Match != "*" && Tag(r) != o.Match:
		return &ConflictError{r}
	}
	return nil
}

// Put makes a record what the body says, whether it is there or not.
func (s *Service) Put(ctx context.Context, c Caller, typeName, id string, body []byte, o EditOptions) (wire.Saved, error) {
	t, ok := policy.TypeNamed(typeName)
	if !ok {
		return wire.Saved{}, ErrNotFound
	}
	r, err := readRecord(t, id, body)
	if err != nil {
		return wire.Saved{}, err
	}
	return s.edit(ctx, c, o, func(p *policy.Policy) ([]policy.Change, error) {
		return []policy.Change{{Op: policy.Put, Type: t, ID: id, Record: r}}, expect(p, t, id, o)
	})
}

// readRecord reads the body of a record whose id the path gives; the body may say it again.
func readRecord(t policy.Type, id string, body []byte) (policy.Record, error) {
	r := policy.New(t)
	field := "id"
	if t == policy.SettingsType {
		field = "" // there is one record of them, without an id
	}
	if err := document.DecodeWith(body, r, field, id); err != nil {
		return nil, err
	}
	if r.Key() != id {
		return nil, &InputError{Field: "id", Problem: fmt.Sprintf("is %q, but the path says %q: give one of them, or the same", r.Key(), id)}
	}
	return r, nil
}

// Create adds a record. An id is made from the name where the body gives none.
func (s *Service) Create(ctx context.Context, c Caller, typeName string, body []byte, o EditOptions) (wire.Saved, error) {
	t, ok := policy.TypeNamed(typeName)
	if !ok || t == policy.SettingsType {
		return wire.Saved{}, ErrNotFound
	}
	o.None = true
	var id string
	saved, err := s.edit(ctx, c, o, func(p *policy.Policy) ([]policy.Change, error) {
		var named struct{ ID, Name string }
		if json.Unmarshal(body, &named) == nil && named.ID == "" && named.Name != "" {
			named.ID = policy.MakeID(named.Name, func(id string) bool { _, taken := p.Get(t, id); return taken })
		}
		r := policy.New(t)
		if err := document.DecodeWith(body, r, "id", named.ID); err != nil {
			return nil, err
		}
		id = r.Key()
		return []policy.Change{{Op: policy.Put, Type: t, ID: id, Record: r}}, expect(p, t, id, o)
	})
	if err == nil && saved.ID == "" {
		saved.ID = id
	}
	return saved, err
}

// Patch changes fields of a record by a JSON Merge Patch, RFC 7396.
func (s *Service) Patch(ctx context.Context, c Caller, typeName, id string, body []byte, o EditOptions) (wire.Saved, error) {
	t, ok := policy.TypeNamed(typeName)
	if !ok {
		return wire.Saved{}, ErrNotFound
	}
	var patch any
	if err := json.Unmarshal(body, &patch); err != nil {
		return wire.Saved{}, &InputError{Field: "", Problem: "the body is no JSON: " + err.Error()}
	}
	return s.edit(ctx, c, o, func(p *policy.Policy) ([]policy.Change, error) {
		r, ok := p.Get(t, id)
		if !ok {
			return nil, ErrNotFound
		}
		if err := expect(p, t, id, o); err != nil {
			return nil, err
		}
		next, err := patched(r, patch)
		return []policy.Change{{Op: policy.Put, Type: t, ID: id, Record: next}}, err
	})
}

// patched gives a record changed by a merge patch.
func patched(r policy.Record, patch any) (policy.Record, error) { return patchedAs(r, patch, r.Key()) }

// patchedAs gives a record of another id, changed by a merge patch.
func patchedAs(r policy.Record, patch any, id string) (policy.Record, error) {
	var now any
	text, err := json.Marshal(r)
	if err == nil {
		err = json.Unmarshal(text, &now)
	}
	if err == nil {
		text, err = json.Marshal(mergePatch(now, patch))
	}
	if err != nil {
		return nil, err
	}
	return readRecord(r.Type(), id, text)
}

// mergePatch is the algorithm of RFC 7396, section 2.
func mergePatch(target, patch any) any {
	fields, ok := patch.(map[string]any)
	if !ok {
		return patch
	}
	out, ok := target.(map[string]any)
	if !ok {
		out = map[string]any{}
	}
	for name, value := range fields {
		if value == nil {
			delete(out, name)
			continue
		}
		out[name] = mergePatch(out[name], value)
	}
	return out
}

// Remove takes a record away; with along, everything that mentions it is changed to mention it no more.
func (s *Service) Remove(ctx context.Context, c Caller, typeName, id string, along bool, o EditOptions) (wire.Saved, error) {
	return s.Edit(ctx, c, wire.Edits{Changes: []wire.Edit{{Op: "remove", Type: typeName, ID: id, Along: along}}}, o)
}

// Edit makes many changes, all or none.
func (s *Service) Edit(ctx context.Context, c Caller, edits wire.Edits, o EditOptions) (wire.Saved, error) {
	if len(edits.Changes) == 0 {
		return wire.Saved{}, &InputError{Field: "changes", Problem: "is empty: say what to change"}
	}
	if edits.Note != "" {
		o.Note = edits.Note
	}
	return s.edit(ctx, c, o, func(p *policy.Policy) ([]policy.Change, error) {
		var out []policy.Change
		for i, e := range edits.Changes {
			changes, err := change(p, e)
			if err == nil && len(edits.Changes) == 1 {
				err = expect(p, changes[0].Type, e.ID, o)
			}
			if err != nil {
				return nil, placed(err, fmt.Sprintf("changes[%d]", i), len(edits.Changes) == 1)
			}
			out = append(out, changes...)
		}
		return out, nil
	})
}

// placed puts the place of a change before the places of its faults, where there are several changes.
func placed(err error, place string, only bool) error {
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
		return &InputError{Field: place, Problem: err.Error()}
	}
	return err
}

// change reads one edit.
func change(p *policy.Policy, e wire.Edit) ([]policy.Change, error) {
	t, ok := policy.TypeNamed(e.Type)
	if !ok {
		return nil, &InputError{Field: "type", Problem: fmt.Sprintf("%q is no type of record: write users, user_groups, devices, …", e.Type)}
	}
	out := policy.Change{Op: policy.Op(e.Op), Type: t, ID: e.ID, List: e.List, Value: e.Value}
	switch out.Op {
	case policy.Put:
		r, err := readRecord(t, e.ID, e.Record)
		if err != nil {
			return nil, err
		}
		out.Record = r
	case policy.Patch:
		var patch any
		if err := json.Unmarshal(e.Record, &patch); err != nil {
			return nil, &InputError{Field: "record", Problem: "is no JSON: " + err.Error()}
		}
		out.Edit = func(r policy.Record) (policy.Record, error) { return patched(r, patch) }
	case "copy":
		return copyRecord(p, t, e)
	case policy.Remove:
		if e.Along {
			if _, ok := p.Get(t, e.ID); ok {
				return p.Along(t, e.ID), nil
			}
		}
	case policy.Add, policy.Drop:
		out.Member.User, out.Also = policy.UserID(e.Value), e.Beside
		out.Point = policy.Point{ID: policy.PointID(e.Value), Name: e.Name}
		for field, into := range map[string]*time.Time{"from": &out.Member.From, "until": &out.Member.Until} {
			text := map[string]string{"from": e.From, "until": e.Until}[field]
			if text == "" {
				continue
			}
			at, err := policy.ParseInstant(text)
			if err != nil {
				return nil, &InputError{Field: field, Problem: fmt.Sprintf("%q %v", text, err)}
			}
			*into = at
		}
	default:
		return nil, &InputError{Field: "op", Problem: fmt.Sprintf("%q is no operation: write put, patch, copy, remove, add or drop", e.Op)}
	}
	return []policy.Change{out}, nil
}
