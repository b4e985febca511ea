package service

import (
	"context"
	"errors"
	"strings"

	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// Export writes a sheet as CSV.
func (s *Service) Export(c Caller, sheet string) ([]byte, error) {
	st := s.State()
	if err := s.may(st, c, Read, ""); err != nil {
		return nil, err
	}
	data, err := document.WriteCSV(st.Policy, document.Sheet(sheet))
	if err != nil {
		return nil, ErrNotFound
	}
	return data, nil
}

// Import brings in a sheet, all of it or nothing. The error is of type [document.Faults], with the line and the column
// of everything that is wrong.
func (s *Service) Import(ctx context.Context, c Caller, sheet string, data []byte, o EditOptions) (wire.Imported, error) {
	var read *document.Import
	saved, err := s.edit(ctx, c, o, func(p *policy.Policy) ([]policy.Change, error) {
		var err error
		if read, err = document.ReadCSV(p, document.Sheet(sheet), data); err != nil {
			return nil, err
		}
		return read.Changes, nil
	})
	var faults policy.Faults
	if errors.As(err, &faults) && read != nil {
		return wire.Imported{}, inLines(faults, read)
	}
	if err != nil {
		return wire.Imported{}, err
	}
	out := wire.Imported{Saved: saved.Saved, Revision: saved.Revision, Rows: len(saved.Changes)}
	if read != nil { // else it is a repetition, of which only what it changed is known
		out.Rows = read.Rows
	}
	for _, change := range saved.Changes {
		switch change.Op {
		case "added":
			out.Added++
		case "changed":
			out.Changed++
		}
		if len(out.Changes) < shownChanges {
			out.Changes = append(out.Changes, change)
		}
	}
	out.Same = max(0, out.Rows-out.Added-out.Changed)
	return out, nil
}

// shownChanges is how many changes of an import are told one by one.
const shownChanges = 200

// inLines tells the faults of changes by the lines of the file that they come from.
func inLines(faults policy.Faults, read *document.Import) document.Faults {
	var out document.Faults
	for _, f := range faults {
		column, _, _ := strings.Cut(strings.NewReplacer("[", ".", "valid.", "").Replace(f.Field), ".")
		out = append(out, document.Fault{Line: read.Line(f.Type, f.ID), Column: 1, Path: column, Problem: f.Problem})
	}
	return out
}
