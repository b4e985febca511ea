package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/wire"
)

// UnheardError is that it is not known how the machines stand.
type UnheardError struct{ Err error }

func (e *UnheardError) Error() string { return policy.SaidBy(e.said()).Error() }

func (e *UnheardError) said() error {
	return policy.Say("how the machines stand is not known: the servers of the log of revisions do not answer")
}

// Unwrap is the sentence that it is told as, and what has led to it.
func (e *UnheardError) Unwrap() []error { return []error{e.said(), e.Err} }

// Here are the machines that tell this one over HTTP how they stand, in memory.
type Here struct {
	mu   sync.Mutex
	said map[string][]byte
}

// Statuses are how machines say that they stand.
func (h *Here) Statuses(context.Context) (map[string][]byte, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return maps.Clone(h.said), nil
}

// Put keeps how a machine says that it stands.
func (h *Here) Put(_ context.Context, name string, text []byte) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.said == nil {
		h.said = map[string][]byte{}
	}
	h.said[name] = text
	return nil
}

// Forget lets go what a machine has said.
func (h *Here) Forget(_ context.Context, name string) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	delete(h.said, name)
	return nil
}

// Machines are the others on which the service runs.
type Machines interface {
	// Statuses are how machines say that they stand, by their names.
	Statuses(ctx context.Context) (map[string][]byte, error)
	// Put keeps how a machine says that it stands.
	Put(ctx context.Context, name string, text []byte) error
	// Forget lets go what a machine has said.
	Forget(ctx context.Context, name string) error
}

// behindAfter is after how long without the last revision a machine is behind.
const behindAfter = 5 * time.Second

// factMachines are the machines that were admitted, by their names: their keys.
const factMachines = "machines"

// silentAfter is after how long a machine that says nothing is silent.
const silentAfter = 15 * time.Second

// Admitted are the keys of the machines that were admitted, by their names.
func (s *Service) AdmittedMachines(ctx context.Context) (map[string][]byte, error) {
	text, err := s.borders.Files.FactOf(ctx, factMachines)
	out := map[string][]byte{}
	if err == nil && text != "" {
		err = json.Unmarshal([]byte(text), &out)
	}
	if err != nil {
		return nil, fmt.Errorf("read which machines were admitted: %w", err)
	}
	return out, nil
}

// Machines lists the machines on which the service runs, and how each stands: this one first, then those that need a look.
func (s *Service) Machines(ctx context.Context, c Caller) (wire.Machines, error) {
	out := wire.Machines{Now: s.borders.Clock().UTC(), List: []wire.Machine{}}
	if err := s.Permit(s.State(), c, Whole, ""); err != nil {
		return out, err
	}
	admitted, err := s.AdmittedMachines(ctx)
	if err != nil {
		return out, err
	}
	said, err := s.borders.Machines.Statuses(ctx)
	if err != nil {
		return out, &UnheardError{err}
	}
	for name, text := range said {
		st, err := replica.ReadStatus(text)
		if err != nil || st.Machine != name {
			s.borders.Log.Warn("what a machine says of itself is passed over", "machine", policy.Clip(name), "error", err)
			continue
		}
		out.List = append(out.List, s.machine(st, admitted[name]))
	}
	for name, key := range admitted {
		if !slices.ContainsFunc(out.List, func(m wire.Machine) bool { return m.Name == name }) {
			out.List = append(out.List, wire.Machine{Name: name, State: wire.MachineUnstarted, Key: key, Admitted: true})
		}
	}
	out.Alone = len(out.List) == 0 || len(out.List) == 1 && out.List[0].Name == s.borders.Name
	slices.SortFunc(out.List, func(a, b wire.Machine) int {
		return cmp.Or(-cmp.Compare(a.Role, b.Role), cmp.Compare(a.Name, b.Name)) // the writer first
	})
	return out, nil
}

// MachinesAmiss counts the machines that need a look: those that have been behind, or not heard of, for longer than is set, that have another key than
// was admitted, or that have refused something. Where it cannot be known, as the servers of the log do not answer, it is told elsewhere, and none is counted.
func (s *Service) MachinesAmiss(ctx context.Context, c Caller) (int, error) {
	list, err := s.Machines(ctx, c)
	if errors.As(err, new(*UnheardError)) {
		return 0, nil
	}
	if err != nil {
		return 0, err
	}
	amiss, longest := 0, time.Duration(s.settings.Load().BehindMinutes)*time.Minute
	for i := range list.List {
		m := &list.List[i]
		since := m.Said
		if m.State == wire.MachineBehind && m.Since != nil {
			since = m.Since
		}
		switch m.State {
		case wire.MachineForged, wire.MachineClock:
			amiss++
		case wire.MachineFine:
			if m.Problem != "" && (m.Refused == nil || list.Now.Sub(*m.Refused) < problemTime) {
				amiss++
			}
		case wire.MachineBehind, wire.MachineSilent:
			if since != nil && list.Now.Sub(*since) >= longest {
				amiss++
			}
		}
	}
	return amiss, nil
}

// problemTime is for how long something that a machine has refused, and that has not come again since, needs a look.
const problemTime = 24 * time.Hour

// mostApart is by how much a machine's clock may differ from that of the one that writes: one that differs more decides as of another time.
const mostApart = 30 * time.Second

// machine is how a machine stands; key is that by which it was admitted, nil: none.
func (s *Service) machine(st *replica.Status, key []byte) wire.Machine {
	now, current := s.borders.Clock(), s.State().Revision
	last := current.Number
	ahead := time.Duration(st.Ahead * float64(time.Second))
	said := st.At.Add(-ahead) // by the clock here
	if said.After(now) {
		said = now
	}
	m := wire.Machine{
		Name: st.Machine, Role: string(st.Role), Version: policy.Clip(st.Version), URL: policy.Clip(st.URL), Revision: st.Number, Behind: last - min(st.Number, last),
		Said: &said, Started: &st.Started, Asked: st.Asked, Waiting: st.Waiting, Problem: policy.Clip(st.Problem), Key: st.Key, Admitted: bytes.Equal(key, st.Key), State: wire.MachineFine,
	}
	if ahead.Abs() > replica.MostSkew {
		m.Ahead = st.Ahead
	}
	if !st.Problems.IsZero() {
		m.Refused = &st.Problems
	}
	if !st.Heard.IsZero() {
		m.Since = &st.Heard
	}
	if st.Role == replica.Writes { // until it was heard of last
		m.Role = string(replica.StandsBy)
	}
	switch {
	case st.Machine == s.borders.Name: // this very one, which may have begun to write since
		m.Role, m.Admitted, m.Revision, m.Behind = string(replica.Writes), true, last, 0
	case key != nil && !m.Admitted:
		m.State = wire.MachineForged
	case key == nil:
		m.State = wire.MachineUnknown
	case now.Sub(said) > silentAfter:
		m.State = wire.MachineSilent
	case ahead.Abs() > mostApart:
		m.State = wire.MachineClock
	case m.Behind > 0 && now.Sub(current.At) > behindAfter:
		m.State = wire.MachineBehind
	}
	return m
}

// AdmitMachine admits a machine by its key: what it records comes into this record.
func (s *Service) AdmitMachine(ctx context.Context, c Caller, name string, in wire.AdmitMachine) error {
	if err := replica.CheckMachine(name); err != nil {
		return Wrong("name", "%q cannot be the name of a machine: small letters, digits and -, up to 63", policy.Clip(name))
	}
	key, err := base64.StdEncoding.DecodeString(in.Key)
	if err != nil {
		key = nil
	}
	if _, err := audit.ParseKey(in.Key); err != nil {
		return Wrong("key", "is no key of a machine: give the 44 characters that it prints when it starts")
	}
	return s.changeMachines(ctx, c, name, audit.Made, func(all map[string][]byte) error {
		for other, its := range all {
			if other != name && bytes.Equal(its, key) {
				return Wrong("key", "is that of the machine %q: a machine has one name", other)
			}
		}
		all[name] = key
		return nil
	})
}

// Join admits this machine itself, where it may not be alone: what it has recorded comes into the records of the others.
func (s *Service) Join(ctx context.Context, key []byte) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	all, err := s.AdmittedMachines(ctx)
	if err != nil || bytes.Equal(all[s.borders.Name], key) {
		return err
	}
	all[s.borders.Name] = key
	return s.keepMachines(ctx, all)
}

// keepMachines keeps which machines were admitted. The caller holds s.writing.
func (s *Service) keepMachines(ctx context.Context, all map[string][]byte) error {
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return s.kept(s.borders.Blank.SetFact(ctx, factMachines, string(text)))
}

// DropMachine takes a machine away: what it records from then on comes into no record.
func (s *Service) DropMachine(ctx context.Context, c Caller, name string) error {
	err := s.changeMachines(ctx, c, name, audit.Ended, func(all map[string][]byte) error {
		delete(all, name)
		return nil
	})
	if err != nil {
		return err
	}
	return s.borders.Machines.Forget(ctx, name)
}

func (s *Service) changeMachines(ctx context.Context, c Caller, name, outcome string, change func(all map[string][]byte) error) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	all, err := s.AdmittedMachines(ctx)
	if err != nil {
		return err
	}
	before := maps.Clone(all)
	if err := change(all); err != nil || maps.EqualFunc(before, all, bytes.Equal) {
		return err
	}
	if err := s.keepMachines(ctx, all); err != nil {
		return err
	}
	s.note(c, audit.Machine, outcome, "", details{"machine": name, "key": all[name]})
	s.machined.Notify()
	return nil
}

// Promote has a machine that stands by write in the place of this one, and returns when this one writes no more.
func (s *Service) Promote(ctx context.Context, c Caller, name string) error {
	if err := s.Permit(s.State(), c, Manage, ""); err != nil {
		return err
	}
	if s.borders.HandOver == nil {
		return Wrong("name", "no machine stands by: run them with --sealing-key, as docs/operations.md has it")
	}
	if name == s.borders.Name {
		return Wrong("name", "%q is the machine that writes", name)
	}
	admitted, err := s.AdmittedMachines(ctx)
	if err != nil {
		return err
	}
	said, err := s.borders.Machines.Statuses(ctx)
	if err != nil {
		return &UnheardError{err}
	}
	text, known := said[name]
	if !known {
		return Wrong("name", "%q is no machine that has been heard of", policy.Clip(name))
	}
	st, err := replica.ReadStatus(text)
	if err != nil || st.Machine != name {
		return Wrong("name", "%q has not told how it stands", policy.Clip(name))
	}
	switch {
	case !bytes.Equal(admitted[name], st.Key):
		return Wrong("name", "%q was not admitted: admit it first, with the key that it prints when it starts", name)
	case st.Role != replica.StandsBy:
		return Wrong("name", "%q does not stand by: it cannot write", name)
	case s.machine(st, st.Key).State == wire.MachineClock:
		return Wrong("name", "the clock of %q has another time: see to it first", name)
	case s.borders.Clock().Sub(st.At) > silentAfter:
		return Wrong("name", "%q is not heard of: see that it runs", name)
	case st.Problem != "":
		return Wrong("name", "%q could not take over: %s", name, policy.Clip(st.Problem))
	}
	if err := s.borders.Record.Add(s.machineEntry(c, name)); err != nil {
		return s.kept(err)
	}
	return ofLine(s.borders.HandOver(ctx, name))
}

// machineEntry is the entry of a machine that is to write from now on. It is kept before: this machine records nothing of its own afterwards.
func (s *Service) machineEntry(c Caller, name string) audit.Entry {
	e := s.entry(c, audit.Machine, audit.Done)
	e.More = details{"machine": name, "what": "it is to write in the place of " + s.borders.Name}.json()
	return e
}

// TakeStatus takes how a machine says that it stands, which it has signed.
func (s *Service) TakeStatus(ctx context.Context, name string, text []byte) error {
	st, err := replica.ReadStatus(text)
	if err != nil || st.Machine != name {
		return Wrong("signed", "is not what this machine has signed of how it stands")
	}
	admitted, err := s.AdmittedMachines(ctx)
	if err != nil {
		return err
	}
	if key, ok := admitted[name]; ok && !bytes.Equal(key, st.Key) {
		return &ForbiddenError{Missing: policy.Say("the key with which the machine was admitted")}
	}
	said, err := s.borders.Machines.Statuses(ctx)
	if err != nil {
		return err
	}
	if _, known := said[name]; !known && len(said) >= mostMachines {
		return &ForbiddenError{Missing: policy.Say("room for another machine: take away those that are gone")}
	}
	return s.borders.Machines.Put(ctx, name, text)
}

// mostMachines bounds how many machines say how they stand.
const mostMachines = 2000

// TakeRecord takes a part of the record of a machine that was admitted, which it has signed.
func (s *Service) TakeRecord(ctx context.Context, name string, text []byte) error {
	admitted, err := s.AdmittedMachines(ctx)
	if err != nil {
		return err
	}
	key, ok := admitted[name]
	if !ok {
		return &ForbiddenError{Missing: policy.Say("a machine that was admitted")}
	}
	entries, err := ReportOf(text, name, key)
	if err != nil {
		return Wrong("signed", "is not what this machine has signed of its record")
	}
	return s.kept(s.borders.Record.AddFrom(name, audit.FromFollower, entries))
}

// ReportOf reads a part of the record of a machine, which its key has signed.
func ReportOf(text []byte, name string, key []byte) ([]audit.Entry, error) {
	report, err := replica.ReadReport(text, key)
	if err != nil {
		return nil, err
	}
	if report.Machine != name {
		return nil, fmt.Errorf("it is of the machine %q", report.Machine)
	}
	var entries []audit.Entry
	return entries, json.Unmarshal(report.Entries, &entries)
}

// MachinesChanged wakes when machines were admitted or taken away.
func (s *Service) MachinesChanged() <-chan struct{} { return s.machined.Wait() }
