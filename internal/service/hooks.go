package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/hook"
	"sentier/internal/outbound"
	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Bounds of hooks.
const (
	mostHooks     = 20
	hooksEvery    = time.Second
	hookBatch     = 50 // entries that are read at once
	mostHookError = 300
)

// toldKinds are the kinds of entries that are told where nobody says which.
var toldKinds = []string{string(audit.Change), string(audit.Request), string(audit.Draft), string(audit.Review), string(audit.Source)}

func allKinds() string {
	var names []string
	for _, kind := range audit.Kinds() {
		names = append(names, string(kind))
	}
	return strings.Join(names, ", ")
}

// hooks is what goes on with them.
type hooks struct {
	changing sync.Mutex // held by whoever sets one up
	ahead    ahead
}

// Hooks lists to whom it is told what happens, for whoever sees the policy as a whole.
func (s *Service) Hooks(ctx context.Context, c Caller) ([]wire.Hook, error) {
	if err := s.Permit(s.State(), c, Whole, ""); err != nil {
		return nil, err
	}
	list, err := s.borders.Hooks.Hooks(ctx)
	if err != nil {
		return nil, err
	}
	out := []wire.Hook{}
	for i := range list {
		out = append(out, s.wireHook(&list[i]))
	}
	return out, nil
}

func (s *Service) wireHook(h *store.Hook) wire.Hook {
	last := s.borders.Record.Last()
	return wire.Hook{
		ID: h.ID, NewHook: wire.NewHook{Name: h.Name, URL: h.URL, Secret: h.Secret, Kinds: strings.Fields(h.Kinds), Paused: h.Paused, Version: h.Version},
		Author: s.named(h.Author), Sent: h.Sent, Behind: last - min(last, h.Sent), Tries: h.Tries, Next: h.NextAt, Last: h.LastAt, Status: h.Status, Problem: h.Problem,
	}
}

func (s *Service) hookOf(ctx context.Context, id string) (*store.Hook, []store.Hook, error) {
	list, err := s.borders.Hooks.Hooks(ctx)
	if err != nil {
		return nil, nil, err
	}
	for i := range list {
		if list[i].ID == id {
			return &list[i], list, nil
		}
	}
	return nil, list, ErrNotFound
}

// checkHook finds what is wrong with how a hook is set up.
func checkHook(in *wire.NewHook) error {
	in.Name = strings.TrimSpace(in.Name)
	if err := checkName(in.Name); err != nil {
		return err
	}
	if problem := outbound.Check(in.URL); problem != nil {
		return &InputError{Field: "url", Problem: *problem}
	}
	if problem := outbound.CheckSecret(in.Secret); problem != nil {
		return &InputError{Field: "secret", Problem: *problem}
	}
	if len(in.Kinds) == 0 {
		in.Kinds = toldKinds
	}
	for _, kind := range in.Kinds {
		if !slices.Contains(audit.Kinds(), audit.Kind(kind)) {
			return Wrong("kinds", "%q is no kind of entry of the record: write %s", policy.Clip(kind), allKinds())
		}
	}
	return nil
}

// NewHook sets up to whom it is told what happens, from now on.
func (s *Service) NewHook(ctx context.Context, c Caller, in wire.NewHook) (wire.Hook, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Hook{}, err
	}
	if err := s.alone(c, ActAddHook, in.Name); err != nil {
		return wire.Hook{}, err
	}
	return s.newHook(ctx, c, in)
}

func (s *Service) newHook(ctx context.Context, c Caller, in wire.NewHook) (wire.Hook, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Hook{}, err
	}
	if err := checkHook(&in); err != nil {
		return wire.Hook{}, err
	}
	s.hooking.changing.Lock()
	defer s.hooking.changing.Unlock()
	_, list, err := s.hookOf(ctx, "")
	if err != nil && !errors.Is(err, ErrNotFound) {
		return wire.Hook{}, err
	}
	if len(list) >= mostHooks {
		return wire.Hook{}, Wrong("name", "there are %d hooks: take one away first", len(list))
	}
	h := store.Hook{Name: in.Name, URL: in.URL, Secret: in.Secret, Kinds: strings.Join(in.Kinds, " "), Author: string(c.User), CreatedAt: s.borders.Clock().UTC(), Version: 1, Paused: in.Paused, Sent: s.borders.Record.Last()}
	h.ID = policy.MakeID(in.Name, func(id string) bool { return slices.ContainsFunc(list, func(x store.Hook) bool { return x.ID == id }) })
	if err := s.kept(s.borders.Hooks.AddHook(ctx, h)); err != nil {
		return wire.Hook{}, err
	}
	s.note(c, audit.Setting, audit.Made, "", details{"hook": h.ID, "name": h.Name, "after": in})
	return s.wireHook(&h), nil
}

// ChangeHook sets up otherwise to whom it is told what happens. What failed is tried again at once.
func (s *Service) ChangeHook(ctx context.Context, c Caller, id string, in wire.NewHook) (wire.Hook, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Hook{}, err
	}
	if err := s.alone(c, ActEditHook, id); err != nil {
		return wire.Hook{}, err
	}
	return s.changeHook(ctx, c, id, in)
}

func (s *Service) changeHook(ctx context.Context, c Caller, id string, in wire.NewHook) (wire.Hook, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Hook{}, err
	}
	if err := checkHook(&in); err != nil {
		return wire.Hook{}, err
	}
	s.hooking.changing.Lock()
	defer s.hooking.changing.Unlock()
	h, _, err := s.hookOf(ctx, id)
	if err != nil {
		return wire.Hook{}, err
	}
	if in.Version != 0 && in.Version != h.Version {
		return wire.Hook{}, &DraftError{policy.Say("the hook %q has been changed since you read it: look at it again", h.Name)}
	}
	before := s.wireHook(h).NewHook
	h.Name, h.URL, h.Secret, h.Kinds, h.Paused, h.Tries, h.NextAt = in.Name, in.URL, in.Secret, strings.Join(in.Kinds, " "), in.Paused, 0, nil
	h.Version++
	kept, err := s.borders.Hooks.SetHook(ctx, *h)
	if err := s.kept(err); err != nil {
		return wire.Hook{}, err
	}
	if !kept {
		return wire.Hook{}, ErrNotFound
	}
	s.note(c, audit.Setting, audit.Done, "", details{"hook": h.ID, "name": h.Name, "before": before, "after": in})
	return s.wireHook(h), nil
}

// DropHook takes a hook away: nothing more is told.
func (s *Service) DropHook(ctx context.Context, c Caller, id string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	if err := s.alone(c, ActRemoveHook, id); err != nil {
		return err
	}
	return s.dropHook(ctx, c, id)
}

func (s *Service) dropHook(ctx context.Context, c Caller, id string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	s.hooking.changing.Lock()
	defer s.hooking.changing.Unlock()
	h, _, err := s.hookOf(ctx, id)
	if err != nil {
		return err
	}
	if err := s.kept(s.borders.Hooks.DropHook(ctx, id)); err != nil {
		return err
	}
	s.note(c, audit.Setting, audit.Ended, "", details{"hook": h.ID, "name": h.Name, "before": s.wireHook(h).NewHook})
	return nil
}

// TestHook tells an event of no meaning, once, so that somebody sees whether it is taken.
func (s *Service) TestHook(ctx context.Context, c Caller, id string) (wire.Hook, error) {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return wire.Hook{}, err
	}
	h, _, err := s.hookOf(ctx, id)
	if err != nil {
		return wire.Hook{}, err
	}
	now := s.borders.Clock()
	out := s.wireHook(h)
	out.Last = &now
	out.Status, err = s.sendHook(ctx, h, &hook.Event{ID: fmt.Sprintf("test-%d", now.UnixNano()), Type: "sentier.test", Source: "sentier", Time: now, Data: map[string]any{}})
	out.Problem = ""
	if err != nil {
		out.Problem = err.Error()
	}
	return out, nil
}

func (s *Service) sendHook(ctx context.Context, h *store.Hook, e *hook.Event) (int, error) {
	secret, err := s.borders.Secret(h.Secret)
	if err != nil {
		return 0, err
	}
	return hook.Send(ctx, h.URL, secret, e)
}

// keepHooks tells what has happened, in the order in which it did and each at least once, until ctx ends.
func (s *Service) keepHooks(ctx context.Context) {
	var busy sync.Map // by id: one that is being told
	var all sync.WaitGroup
	defer all.Wait()
	for {
		list, err := s.borders.Hooks.Hooks(ctx)
		if err != nil && ctx.Err() == nil {
			s.borders.Log.Error("the hooks cannot be read", "error", err)
		}
		if err := s.tellAhead(ctx, list); err != nil && ctx.Err() == nil {
			s.borders.Log.Warn("what ends, and what may not be meant so, was not looked for", "error", err)
		}
		for i := range list {
			h := &list[i]
			due := h.NextAt == nil || !s.borders.Clock().Before(*h.NextAt)
			if h.Paused || !due || h.Sent >= s.borders.Record.Last() {
				continue
			}
			if _, running := busy.LoadOrStore(h.ID, true); running {
				continue
			}
			all.Go(func() {
				defer busy.Delete(h.ID)
				if err := s.tellHook(ctx, h); err != nil && ctx.Err() == nil {
					s.borders.Log.Warn("a hook was not told", "hook", h.ID, "error", err)
				}
			})
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(hooksEvery):
		}
	}
}

// errEnough ends a reading of the record.
var errEnough = errors.New("enough")

// tellHook tells a hook the next entries, as far as they are taken.
func (s *Service) tellHook(ctx context.Context, h *store.Hook) error {
	last := s.borders.Record.Last()
	f := audit.Filter{After: h.Sent, Before: last + 1}
	for _, kind := range strings.Fields(h.Kinds) {
		f.Kinds = append(f.Kinds, audit.Kind(kind))
	}
	var next []audit.Entry
	err := s.borders.Record.Each(ctx, f, func(e *audit.Entry) error {
		if len(next) == hookBatch {
			return errEnough
		}
		next = append(next, *e)
		return nil
	})
	if err != nil && !errors.Is(err, errEnough) {
		return err
	}
	for i := range next {
		e := &next[i]
		status, err := s.sendHook(ctx, h, hookEvent(e))
		if ctx.Err() != nil {
			return ctx.Err()
		}
		now := s.borders.Clock().UTC()
		h.LastAt, h.Status, h.Problem = &now, status, ""
		if err == nil {
			h.Sent, h.Tries, h.NextAt = e.Seq, 0, nil
		} else {
			h.Tries++
			again := now.Add(hook.Pause(h.Tries))
			h.NextAt = &again
			h.Problem = string([]rune(err.Error())[:min(len([]rune(err.Error())), mostHookError)])
			h.Paused = status == 410 // whoever says so wants no more
		}
		if kept, failed := s.borders.Hooks.HookTold(ctx, *h); !kept || failed != nil || err != nil {
			return errors.Join(failed, err)
		}
	}
	if !errors.Is(err, errEnough) && last > h.Sent { // what came since is not told
		h.Sent = last
		_, err = s.borders.Hooks.HookTold(ctx, *h)
		return err
	}
	return nil
}

// hookEvent is an entry of the record as an event.
func hookEvent(e *audit.Entry) *hook.Event {
	data := map[string]any{"entry": e.Seq, "kind": e.Kind, "outcome": e.Outcome}
	for name, value := range map[string]string{"by": e.By, "via": e.Via, "user": e.User, "right": e.Right, "device": e.Device, "point": e.Point} {
		if value != "" {
			data[name] = value
		}
	}
	if e.Revision > 0 {
		data["revision"] = e.Revision
	}
	if len(e.More) > 0 {
		data["more"] = e.More
	}
	subject := e.User
	if e.Kind == audit.Change {
		subject = fmt.Sprintf("revision/%d", e.Revision)
	}
	return &hook.Event{ID: fmt.Sprintf("entry-%d", e.Seq), Type: "sentier." + string(e.Kind), Source: "sentier", Subject: subject, Time: e.At, Data: data}
}
