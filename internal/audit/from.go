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

// Elsewhere are the kinds of entries that are taken over from the record of another machine; the others are about that record itself.
var Elsewhere = []Kind{Decision, Question, Look, Refusal, Export, Service}

// AddFrom takes over entries of the record of another machine, in their order: each once, however often it comes. They say from which machine they are, and
// where they stand there; their time is that at which it happened.
func (r *Record) AddFrom(machine string, entries []Entry) error {
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
		if !slices.Contains(Elsewhere, e.Kind) {
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
