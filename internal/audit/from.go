package audit

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"
)

// Facts by the name of a machine.
const (
	factTaken = "taken from " // the last entry of its own record that was taken over
	factSame  = "same as "    // the last entry up to which its record is this one: here it came with a backup of the same
)

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

// AddFrom takes over entries of some kinds of the record of another machine, in their order: each once, however often it comes. They say from which machine
// they are, and where they stand there; their time is that at which it happened.
func (r *Record) AddFrom(machine string, kinds []Kind, entries []Entry) error {
	r.taking.Lock()
	defer r.taking.Unlock()
	before, err := r.numberOf(factTaken + machine)
	if err != nil {
		return err
	}
	entries = slices.DeleteFunc(slices.Clone(entries), func(e Entry) bool { return e.Seq <= before })
	if len(entries) == 0 {
		return nil
	}
	last, same := entries[len(entries)-1].Seq, uint64(0)
	if entries, same, err = r.parting(machine, before, entries); err != nil {
		return err
	}
	var list []Entry
	for _, e := range entries {
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
	return r.with(list, func(tx *sql.Tx) error {
		if same > 0 {
			if err := setFact(tx, factSame+machine, strconv.FormatUint(same, 10)); err != nil {
				return err
			}
		}
		return setFact(tx, factTaken+machine, strconv.FormatUint(last, 10))
	})
}

// numberOf is a fact that is a number; 0: there is none.
func (r *Record) numberOf(name string) (uint64, error) {
	text, err := fact(r.reader, name)
	if err != nil || text == "" {
		return 0, err
	}
	n, err := strconv.ParseUint(text, 10, 64)
	if err != nil {
		err = fmt.Errorf("the fact %q of the record is no number: %w", name, err)
	}
	return n, err
}

// parting gives the entries of another record from where it is not this one any more, and up to where it is; 0: it never was, or has parted before.
func (r *Record) parting(machine string, before uint64, entries []Entry) ([]Entry, uint64, error) {
	same, err := r.numberOf(factSame + machine)
	if err != nil || same != before {
		return entries, 0, err
	}
	first, last := entries[0].Seq, entries[len(entries)-1].Seq
	mine := map[uint64][sha256.Size]byte{}
	err = r.Each(context.Background(), Filter{After: first - 1, Before: last + 1}, func(e *Entry) error {
		mine[e.Seq], _ = e.link(nil, nil)
		return nil
	})
	if err != nil {
		return nil, 0, err
	}
	for i := range entries {
		its, _ := entries[i].link(nil, nil)
		if own, ok := mine[entries[i].Seq]; !ok || own != its {
			return entries[i:], 0, nil
		}
	}
	return nil, last, nil
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
