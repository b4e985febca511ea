package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"sentier/internal/policy"
	"sentier/internal/source"
	"sentier/internal/store"
	"sentier/internal/wire"
	"sentier/internal/wording"
)

// toldRun is what is kept of a reading, for people.
type toldRun struct {
	Why      *keptSaid
	Counts   wire.SourceCounts
	Problems []toldProblem
	More     int
	Missing  []source.Matched
}

type toldProblem struct {
	Place string
	Why   keptSaid
}

// problems tells the first of some problems, and how many others there are.
func problems(words wording.Catalogue, list []source.Problem) (out []wire.SourceProblem, more int) {
	out = []wire.SourceProblem{}
	for i, p := range list {
		if i == problemsTold {
			return out, len(list) - i
		}
		out = append(out, wire.SourceProblem{Place: p.Place, Text: words.Put(p.Why)})
	}
	return out, 0
}

// wireMatches tells what a mapping comes to: what does not match first.
func (s *Service) wireMatches(st *State, words wording.Catalogue, list []source.Matched) []wire.SourceMatch {
	out := []wire.SourceMatch{}
	for _, m := range list {
		row := wire.SourceMatch{Outside: m.Outside, Place: m.Place, Rule: m.Rule, Make: m.Make, Found: m.Found, Members: m.Members, Near: m.Near}
		if m.Group != "" {
			row.Group = &wire.Named{ID: m.Group, Name: st.Policy.Title(policy.UserGroups, m.Group)}
		}
		if m.Calendar != "" {
			row.Calendar = &wire.Named{ID: m.Calendar, Name: st.Policy.Title(policy.Calendars, m.Calendar)}
		}
		switch {
		case m.Why == "missing" && m.Calendar != "" && m.Near != "":
			row.Text = words.Put(policy.Say("no event there fits %q; did you mean %q? (events: %d)", m.Outside, m.Near, m.NearBy))
		case m.Why == "missing" && m.Calendar != "":
			row.Text = words.Put(policy.Say("no event there fits %q in the next 400 days", m.Outside))
		case m.Why == "missing" && m.Rule:
			row.Text = words.Put(policy.Say("there is no user group %q here", m.Group))
		case m.Why == "missing" && m.Near != "":
			row.Text = words.Put(policy.Say("there is no %q there; %q has %d members", m.Outside, m.Near, m.NearBy))
		case m.Why == "missing":
			row.Text = words.Put(policy.Say("there is no %q there", m.Outside))
		case m.Why == "ambiguous":
			row.Text = words.Put(policy.Say("there are several %q there: map the one that is meant by where it stands", m.Outside))
		}
		out = append(out, row)
	}
	slices.SortStableFunc(out, func(a, b wire.SourceMatch) int { return boolBit(a.Found) - boolBit(b.Found) })
	return out
}

func boolBit(b bool) int {
	if b {
		return 1
	}
	return 0
}

// wireRun tells of a reading.
func (s *Service) wireRun(c Caller, run store.SourceRun) (wire.SourceRun, error) {
	var told toldRun
	if err := json.Unmarshal(run.Told, &told); err != nil {
		return wire.SourceRun{}, fmt.Errorf("read a reading of %s: %w", run.Source, err)
	}
	words := wording.Accepted(c.Language)
	out := wire.SourceRun{Number: run.Number, At: run.At, Took: run.Took.Seconds(), Outcome: run.Outcome, Revision: run.Revision, Counts: told.Counts, More: told.More,
		Problems: []wire.SourceProblem{}, Missing: s.wireMatches(s.State(), words, told.Missing)}
	if run.By != "" {
		by := s.named(run.By)
		out.By = &by
	}
	if told.Why != nil {
		out.Why = words.Put(told.Why.said())
	}
	for _, p := range told.Problems {
		out.Problems = append(out.Problems, wire.SourceProblem{Place: p.Place, Text: words.Put(p.Why.said())})
	}
	return out, nil
}

// keptSaid is a sentence as it is kept, so that it can be told in any language later.
type keptSaid struct {
	Form string `json:"form"`
	Args []any  `json:"args,omitempty"`
}

func keepSaid(said policy.Said) *keptSaid {
	out := &keptSaid{Form: said.Form}
	for _, arg := range said.Args {
		switch arg := arg.(type) {
		case policy.Said:
			out.Args = append(out.Args, keepSaid(arg))
		case int, string:
			out.Args = append(out.Args, arg)
		default:
			out.Args = append(out.Args, fmt.Sprint(arg))
		}
	}
	return out
}

// said is the sentence again.
func (k *keptSaid) said() policy.Said {
	out := policy.Said{Form: k.Form}
	for _, arg := range k.Args {
		switch arg := arg.(type) {
		case float64: // as a number was kept
			out.Args = append(out.Args, int(arg))
		case map[string]any:
			text, err := json.Marshal(arg)
			var part keptSaid
			if err == nil && json.Unmarshal(text, &part) == nil {
				out.Args = append(out.Args, part.said())
				continue
			}
			out.Args = append(out.Args, fmt.Sprint(arg))
		case *keptSaid:
			out.Args = append(out.Args, arg.said())
		default:
			out.Args = append(out.Args, arg)
		}
	}
	return out
}

// wireSource tells of a source.
func (s *Service) wireSource(ctx context.Context, c Caller, k *keptSource, runs int) (wire.Source, error) {
	out := wire.Source{ID: k.ID, NewSource: k.set, Author: s.named(k.Author), Good: k.GoodAt}
	if !k.Paused {
		out.Next = k.NextRun
	}
	known := s.known.Load()
	n := known.Counts(k.ID)
	out.Users, out.Groups, out.Members, out.Devices, out.Sites = n.Users, n.Groups, n.Members, n.Devices, n.Sites
	for _, o := range s.vanished(k.ID) {
		out.Vanished = append(out.Vanished, wire.Vanished{Type: o.Type.String(), Named: wire.Named{ID: o.Record, Name: s.State().Policy.Title(o.Type, o.Record)}, Outside: o.Outside})
	}
	if n.Calendars > 0 {
		for _, o := range known.Things(k.ID, policy.Calendars) {
			out.Keeps = append(out.Keeps, wire.Named{ID: o.Record, Name: s.State().Policy.Title(policy.Calendars, o.Record)})
		}
	}
	if k.feed() != nil {
		at, err := s.borders.Sources.ContentAt(ctx, k.ID)
		if err != nil {
			return out, err
		}
		out.Content = at
	}
	list, err := s.borders.Sources.Runs(ctx, k.ID, max(runs, 1))
	if err != nil {
		return out, err
	}
	for i, run := range list {
		told, err := s.wireRun(c, run)
		if err != nil {
			return out, err
		}
		if i == 0 {
			out.Last = &told
		}
		if runs > 0 {
			out.Runs = append(out.Runs, told)
		}
	}
	return out, nil
}

// vanished is what a source has brought that is there no more; nothing is looked for where nothing is.
func (s *Service) vanished(id string) []source.Origin {
	known := s.known.Load()
	if known.Counts(id).Vanished == 0 {
		return nil
	}
	return known.Vanished(id, policy.Devices, policy.Sites)
}

func (s *Service) named(user string) wire.Named {
	return wire.Named{ID: user, Name: s.State().Policy.Title(policy.Users, user)}
}

// wireCalendars tells of the days that a source would give our calendars.
func (s *Service) wireCalendars(st *State, list []source.CalendarDays) (out []wire.SourceDays) {
	for _, c := range list {
		told := wire.SourceDays{Calendar: wire.Named{ID: c.Calendar, Name: st.Policy.Title(policy.Calendars, c.Calendar)}, Events: c.Events,
			Days: []policy.CalendarDay{}, Comes: []policy.Date{}, Goes: []policy.CalendarDay{}}
		told.Days, told.Comes, told.Goes = append(told.Days, c.Days...), append(told.Comes, c.Comes...), append(told.Goes, c.Goes...)
		out = append(out, told)
	}
	return out
}
