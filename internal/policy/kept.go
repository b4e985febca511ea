package policy

import (
	"encoding/json"
	"fmt"
)

// kept is the written form of a [RecordChange]: both versions without their long list, and what came into that list and went out of it.
type kept struct {
	Type    string          `json:"type"`
	Before  json.RawMessage `json:"before,omitempty"`
	After   json.RawMessage `json:"after,omitempty"`
	Added   []Entry         `json:"added,omitempty"`
	Dropped []Entry         `json:"dropped,omitempty"`
}

// MarshalJSON writes the form in which what was done to a record is kept by itself: the same bytes for the same change.
func (c RecordChange) MarshalJSON() ([]byte, error) {
	before, after := c.Written()
	added, dropped := c.Entries()
	return json.Marshal(kept{c.Record().Type().String(), before, after, added, dropped})
}

// UnmarshalJSON reads what MarshalJSON writes.
func (c *RecordChange) UnmarshalJSON(b []byte) error {
	var in kept
	if err := json.Unmarshal(b, &in); err != nil {
		return err
	}
	t, ok := TypeNamed(in.Type)
	if !ok {
		return fmt.Errorf("%q is no type of record", in.Type)
	}
	read := func(text json.RawMessage) (Record, error) {
		if text == nil {
			return nil, nil
		}
		r := New(t)
		return r, json.Unmarshal(text, r)
	}
	before, err := read(in.Before)
	if err != nil {
		return err
	}
	after, err := read(in.After)
	if err != nil {
		return err
	}
	if before == nil && after == nil {
		return fmt.Errorf("a change of %s has neither version", in.Type)
	}
	*c = Kept(before, after, in.Added, in.Dropped)
	return nil
}
