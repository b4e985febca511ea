package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"sentier/internal/document"
	"sentier/internal/policy"
	"sentier/internal/wire"
)

// Sheets lists the sheets that can be written and brought in, each with its columns.
func (s *Service) Sheets(c Caller) (map[document.Sheet][]string, error) {
	if err := s.Permit(s.State(), c, Read, ""); err != nil {
		return nil, err
	}
	return document.Sheets(), nil
}

// Export writes a sheet as CSV; raw without what guards the programs of people against formulas in cells.
func (s *Service) Export(c Caller, sheet string, raw bool) ([]byte, error) {
	st := s.State()
	if err := s.Permit(st, c, Whole, ""); err != nil {
		return nil, err
	}
	data, err := document.WriteCSV(st.Policy, document.Sheet(sheet), !raw)
	if errors.As(err, new(document.Faults)) {
		return nil, ErrNotFound
	}
	return data, err
}

// Import brings in a sheet, all of it or nothing. The error is of type [document.Faults], with the line and the column
// of everything that is wrong.
func (s *Service) Import(ctx context.Context, c Caller, sheet string, data []byte, o EditOptions) (wire.Imported, error) {
	var read *document.Import
	o.way, o.rows = WaySheet, bytes.Count(data, []byte("\n"))
	o.keep = func(saved wire.Saved) ([]byte, error) { return json.Marshal(imported(saved, read)) }
	saved, replayed, err := s.edit(ctx, c, &o, func(now *State) ([]policy.Change, error) {
		if err := o.expectPolicy(now); err != nil {
			return nil, err
		}
		var err error
		if read, err = document.ReadCSV(now.Policy, document.Sheet(sheet), data, s.borders.Clock()); err != nil {
			return nil, err
		}
		return read.Changes, nil
	})
	var faults policy.Faults
	if errors.As(err, &faults) && read != nil {
		return wire.Imported{}, read.InLines(faults)
	}
	if err != nil {
		return wire.Imported{}, err
	}
	if replayed != nil {
		var out wire.Imported
		if err := json.Unmarshal(replayed, &out); err != nil {
			return out, fmt.Errorf("read the answer that is kept: %w", err)
		}
		return out, nil
	}
	return imported(saved, read), nil
}

// imported counts what a sheet did.
func imported(saved wire.Saved, read *document.Import) wire.Imported {
	out := wire.Imported{Saved: saved.Saved, Revision: saved.Revision, Rows: read.Rows, Impact: saved.Impact, Unmet: saved.Unmet, Draft: saved.Draft}
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
	return out
}

// shownChanges is how many changes of an import are told one by one.
const shownChanges = 200
