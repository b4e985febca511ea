package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"sentier/internal/audit"
	"sentier/internal/policy"
	"sentier/internal/replica"
	"sentier/internal/wire"
)

// Machines are the others on which the service runs.
type Machines interface {
	// Statuses are how machines say that they stand, by their names.
	Statuses(ctx context.Context) (map[string][]byte, error)
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
	out := wire.Machines{Alone: s.borders.Machines == nil, Now: s.borders.Clock().UTC(), List: []wire.Machine{}}
	if err := s.Permit(s.State(), c, Whole, ""); err != nil || out.Alone {
		return out, err
	}
	admitted, err := s.AdmittedMachines(ctx)
	if err != nil {
		return out, err
	}
	said, err := s.borders.Machines.Statuses(ctx)
	if err != nil {
		return out, err
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
	slices.SortFunc(out.List, func(a, b wire.Machine) int {
		return cmp.Or(-cmp.Compare(a.Role, b.Role), cmp.Compare(a.Name, b.Name)) // the writer first
	})
	return out, nil
}

// machine is how a machine stands; key is that by which it was admitted, nil: none.
func (s *Service) machine(st *replica.Status, key []byte) wire.Machine {
	now, current := s.borders.Clock(), s.State().Revision
	last := current.Number
	m := wire.Machine{
		Name: st.Machine, Role: string(st.Role), Version: policy.Clip(st.Version), URL: policy.Clip(st.URL), Revision: st.Number, Behind: last - min(st.Number, last),
		Said: &st.At, Started: &st.Started, Asked: st.Asked, Waiting: st.Waiting, Problem: policy.Clip(st.Problem), Key: st.Key, Admitted: bytes.Equal(key, st.Key), State: wire.MachineFine,
	}
	if !st.Heard.IsZero() {
		m.Since = &st.Heard
	}
	switch {
	case st.Role == replica.Writes && st.Machine == s.borders.Name: // this very one
		m.Admitted, m.Revision, m.Behind = true, last, 0
	case key != nil && !m.Admitted:
		m.State = wire.MachineForged
	case key == nil:
		m.State = wire.MachineUnknown
	case now.Sub(st.At) > silentAfter:
		m.State = wire.MachineSilent
	case m.Behind > 0 && st.At.Sub(current.At) > behindAfter:
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

// DropMachine takes a machine away: what it records from then on comes into no record.
func (s *Service) DropMachine(ctx context.Context, c Caller, name string) error {
	err := s.changeMachines(ctx, c, name, audit.Ended, func(all map[string][]byte) error {
		delete(all, name)
		return nil
	})
	if err != nil || s.borders.Machines == nil {
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
	text, err := json.Marshal(all)
	if err != nil {
		return err
	}
	if err := s.borders.Blank.SetFact(ctx, factMachines, string(text)); err != nil {
		return s.kept(err)
	}
	s.note(c, audit.Machine, outcome, "", details{"machine": name, "key": all[name]})
	s.machined.Notify()
	return nil
}

// MachinesChanged wakes when machines were admitted or taken away.
func (s *Service) MachinesChanged() <-chan struct{} { return s.machined.Wait() }
