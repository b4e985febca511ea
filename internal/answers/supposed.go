package answers

import (
	"context"
	"slices"
	"strings"

	"sentier/internal/service"
	"sentier/internal/wire"
)

// mostNamed is how many devices of a row are named.
const mostNamed = 6

// WouldReach holds what a user reaches against what they would after some changes that are not made: what is lost, gained and kept, and through
// what. Rows for which all of that is the same are one.
func (s Service) WouldReach(ctx context.Context, c service.Caller, in wire.WouldReach) (wire.SideBySide, error) {
	out := wire.SideBySide{Rows: []wire.SideRow{}}
	q := ReachQuery{At: in.At, Limit: MaxPage}
	was, err := s.Reach(c, "users", in.User, q)
	if err != nil {
		return out, err
	}
	st, err := s.Supposed(ctx, c, in.Changes)
	if err != nil {
		return out, err
	}
	would, err := s.reach(st, c, "users", in.User, q)
	if err != nil {
		return out, err
	}
	out.At, out.More = was.At, max(was.Total-len(was.Items), would.Total-len(would.Items))
	type side struct{ before, after *wire.Reached }
	sides := map[string]*side{}
	var order []string
	take := func(items []wire.Reached, into func(*side) **wire.Reached) {
		for i := range items {
			x := sides[items[i].ID]
			if x == nil {
				x = &side{}
				sides[items[i].ID] = x
				order = append(order, items[i].ID)
			}
			*into(x) = &items[i]
		}
	}
	take(was.Items, func(x *side) **wire.Reached { return &x.before })
	take(would.Items, func(x *side) **wire.Reached { return &x.after })
	rows := map[string]int{}
	for _, id := range order {
		x := sides[id]
		row := wire.SideRow{Before: rightsOf(x.before), After: rightsOf(x.after), Count: 1}
		of := x.after
		switch {
		case x.before == nil:
			row.Change = "gained"
		case x.after == nil:
			row.Change, of = "lost", x.before
		case slices.Equal(row.Before, row.After):
			row.Change = "kept"
		default:
			row.Change = "changed"
		}
		row.Through, row.Devices = of.Through, []wire.Named{{ID: of.ID, Name: of.Name}}
		key := row.Change + strings.Join(row.Before, "\n") + "/" + strings.Join(row.After, "\n")
		for _, ref := range row.Through {
			key += "/" + ref.Type + " " + ref.ID
		}
		if at, there := rows[key]; there {
			same := &out.Rows[at]
			if same.Count++; len(same.Devices) < mostNamed {
				same.Devices = append(same.Devices, row.Devices...)
			}
			continue
		}
		rows[key] = len(out.Rows)
		out.Rows = append(out.Rows, row)
	}
	rank := []string{"kept", "changed", "lost", "gained"} // what is kept by accident first
	slices.SortStableFunc(out.Rows, func(a, b wire.SideRow) int { return slices.Index(rank, a.Change) - slices.Index(rank, b.Change) })
	return out, nil
}

// rightsOf writes the rights on something that is reached: each with what it takes, where it is not so now.
func rightsOf(x *wire.Reached) []string {
	out := []string{}
	if x == nil {
		return out
	}
	for _, r := range x.Rights {
		text := r.Name
		if r.Text != "" {
			text += " (" + r.Text + ")"
		}
		out = append(out, text)
	}
	return out
}
