package audit

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"
)

// factTaken and the name of a machine: the last entry of its own record that was taken over.
const factTaken = "taken from "

// What is taken over from the record of another machine: the rest is about that record itself.
var (
	// FromFollower are the kinds of entries of a machine that follows.
	FromFollower = []Kind{Decision, Question, Look, Refusal, Export, Service}
	// FromWriter are those of one that may write.
	FromWriter = []Kind{Decision, Question, Look, Change, SignIn, SignOut, Password, SecondFactor, Link, Token, Request, Draft, Review, Source, Ending, Finding, Machine, Refusal, Backup, Export, Setting, Service}
)

// Taken tells whether an entry was taken over from the record of another machine.
func (e *Entry) Taken() bool {
	var in struct {
		Entry uint64 `json:"machine_entry"`
	}
	return len(e.More) > 0 && json.Unmarshal(e.More, &in) == nil && in.Entry > 0
}

// factMachine is the machine whose own entries are those of the record.
const factMachine = "machine"

// Belongs notes that the record is that of a machine. Where it was another's until now, as it came with a backup of that one, all of it is here; that it is not
// taken over once more is noted as well.
func (r *Record) Belongs(machine string, sinks ...string) error {
	before, err := fact(r.reader, factMachine)
	if err != nil || before == machine {
		return err
	}
	last := strconv.FormatUint(r.Last(), 10)
	return r.with(nil, func(tx *sql.Tx) error {
		if before != "" {
			if err := setFact(tx, factTaken+before, last); err != nil {
				return err
			}
			for _, sink := range sinks {
				if err := setFact(tx, factSent+sink, last); err != nil {
					return err
				}
			}
		}
		return setFact(tx, factMachine, machine)
	})
}

// AddFrom takes over entries of some kinds of the record of another machine, in their order: each once, however often it comes. They say from which machine
// they are, and where they stand there; their time is that at which it happened.
func (r *Record) AddFrom(machine string, kinds []Kind, entries []Entry) error {
	r.taking.Lock()
	defer r.taking.Unlock()
	name := factTaken + machine
	text, err := fact(r.reader, name)
	if err != nil {
		return err
	}
	var last uint64
	if text != "" {
		if last, err = strconv.ParseUint(text, 10, 64); err != nil {
			return fmt.Errorf("how much of the record of %s is here cannot be read: %w", machine, err)
		}
	}
	var list []Entry
	for _, e := range entries {
		if e.Seq <= last {
			continue
		}
		last = e.Seq
		if !slices.Contains(kinds, e.Kind) {
			continue
		}
		if e.More, err = elsewhere(e.More, machine, e.Seq); err != nil {
			return fmt.Errorf("entry %d of the record of %s cannot be read: %w", e.Seq, machine, err)
		}
		e.Seq, e.Chain = 0, nil
		if e.Kind == Service { // it is about that machine, and no revision that this record tells of
			e.Revision = 0
		}
		list = append(list, e)
	}
	if text == strconv.FormatUint(last, 10) {
		return nil
	}
	return r.with(list, func(tx *sql.Tx) error { return setFact(tx, name, strconv.FormatUint(last, 10)) })
}

// elsewhere adds to what an entry says beside on which machine it was made.
func elsewhere(more json.RawMessage, machine string, entry uint64) (json.RawMessage, error) {
	all := map[string]any{}
	if len(more) > 0 {
		if err := json.Unmarshal(more, &all); err != nil {
			return nil, err
		}
	}
	all["machine"], all["machine_entry"] = machine, entry
	return json.Marshal(all)
}

// UnmarshalJSON reads what MarshalJSON has written.
func (e *Entry) UnmarshalJSON(data []byte) error {
	var w struct {
		Entry                                                            uint64
		At                                                               time.Time
		Kind                                                             Kind
		Outcome, By, Via, Token, From, User, Right, Device, Point, Chain string
		Revision                                                         uint64
		More                                                             json.RawMessage
	}
	if err := json.Unmarshal(data, &w); err != nil {
		return err
	}
	*e = Entry{Seq: w.Entry, At: w.At, Kind: w.Kind, Outcome: w.Outcome, By: w.By, Via: w.Via, Token: w.Token, From: w.From, User: w.User, Right: w.Right, Device: w.Device, Point: w.Point, Revision: w.Revision, More: w.More}
	return nil
}
