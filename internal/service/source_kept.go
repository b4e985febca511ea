package service

import (
	"context"
	"errors"

	"sentier/internal/policy"
	"sentier/internal/store"
	"sentier/internal/wire"
)

// Origins tells of some records of a type from where they come; those of no source are left out.
func (s *Service) Origins(c Caller, typeName string, ids []string) ([]wire.Origin, error) {
	st := s.State()
	if err := s.Permit(st, c, Read, ""); err != nil {
		return nil, err
	}
	t, ok := policy.TypeNamed(typeName)
	if !ok {
		return nil, Wrong("type", "%q is no type of record: write users, user_groups, calendars, devices or sites", policy.Clip(typeName))
	}
	known, v := s.known.Load(), s.View(st, c)
	out := []wire.Origin{}
	if known.Empty() {
		return out, nil
	}
	for _, id := range ids {
		r, ok := v.Get(t, id)
		if !ok {
			continue
		}
		if o, ok := known.Origin(t, id); ok {
			out = append(out, wire.Origin{ID: id, Source: s.sourceNamed(o.Source), Outside: o.Outside, Place: o.Place, Fields: o.Keeps(), Gone: o.Gone})
		}
		g, ok := r.(*policy.UserGroup)
		if !ok {
			continue
		}
		for from, users := range known.Brought(g) {
			out = append(out, wire.Origin{ID: id, Source: s.sourceNamed(from), Fields: []string{"members"}, Members: users})
		}
	}
	return out, nil
}

func (s *Service) sourceNamed(id string) wire.Named {
	return wire.Named{ID: id, Name: s.known.Load().Name(id)}
}

// BroughtBy is the source that has brought a membership.
func (s *Service) BroughtBy(group, user string) (wire.Named, bool) {
	from, ok := s.known.Load().Brings(group, user)
	if !ok {
		return wire.Named{}, false
	}
	return s.sourceNamed(from), true
}

// SourceError is that what was to be changed is kept by a source.
type SourceError struct {
	Source string // as people know it
	What   policy.Said
}

func (e *SourceError) Error() string { return e.Unwrap().Error() }

// Unwrap is the sentence that it is told as.
func (e *SourceError) Unwrap() error {
	return policy.Say("the source %q keeps %s: change it there", e.Source, e.What)
}

// keptElsewhere refuses a change of what a source keeps, but by the source. What a source has brought is taken back with the revision that brought it.
func (m *making) keptElsewhere() error {
	known := m.known.Load()
	if known.Empty() || len(m.o.brought) > 0 {
		return nil
	}
	for _, c := range m.done {
		if from, what, ok := known.Locked(c); ok {
			return &SourceError{known.Name(from), what}
		}
	}
	return nil
}

// mayUndo refuses to take back what a source has brought, where it is not set so that it may be.
func (s *Service) mayUndo(ctx context.Context, revision uint64, o *EditOptions) error {
	run, err := s.borders.Sources.RunOf(ctx, revision)
	if errors.Is(err, store.ErrNotFound) {
		return nil
	}
	if err != nil {
		return err
	}
	known := s.known.Load()
	if !known.MayUndo(run.Source) {
		return &DraftError{policy.Say("revision %d was read from the source %q, and the next reading would bring it again: change it there, or set the source so that a reading can be taken back until the next", revision, known.Name(run.Source))}
	}
	o.brought = append(o.brought, revision)
	return nil
}
