package replica

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"time"

	"sentier/internal/container"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// Kind is what an entry of the log is.
type Kind string

// The kinds.
const (
	Revision Kind = "revision" // the next state of the policy, as what it changes
	Epoch    Kind = "epoch"    // a machine writes from here on, and no other
	Facting  Kind = "facts"    // what else is known by now: who may come in, how the service is set
	Snapshot Kind = "snapshot" // the policy as it was can be had whole
	Beside   Kind = "beside"   // something was done that is not of the policy, and for the machines that may write alone
)

// logForm is the version of what is in the log. A machine that meets a later one stops there, and says so.
const logForm = 1

// Entry is one entry of the log, by which a machine follows the one that writes.
type Entry struct {
	Form  int       `json:"form"`
	Kind  Kind      `json:"kind"`
	Seq   uint64    `json:"seq"`   // its place in the log, from 1, without a gap
	Epoch uint64    `json:"epoch"` // how many times a machine has begun to write
	At    time.Time `json:"at"`

	Number  uint64         `json:"revision"` // that it makes; with other kinds, the last before it
	Chain   []byte         `json:"chain"`    // of that revision
	By      string         `json:"by,omitempty"`
	Via     string         `json:"via,omitempty"`
	Note    string         `json:"note,omitempty"`
	State   []byte         `json:"state,omitempty"` // hash over all rows after it
	Hash    int            `json:"hash,omitempty"`  // form of the chain
	Changes []store.Change `json:"changes,omitempty"`

	Attached []byte  `json:"attached,omitempty"` // SHA-256 of what travels beside, the facts or what is sealed: not everybody has to know it
	Object   *Object `json:"object,omitempty"`   // the changes of a large revision, kept apart; or the snapshot

	Trail       []byte  `json:"trail,omitempty"`        // of what was done beside the policy, after it; nothing: the machine that writes tells nobody of that
	SealedApart *Object `json:"sealed_apart,omitempty"` // what is sealed, where it is too large to travel beside

	Facts  []Fact `json:"-"` // nothing where they have not travelled with it
	Sealed []byte `json:"-"` // likewise

	Writer
}

// Object is something too large for the log.
type Object struct {
	Name   string `json:"name"`
	Size   int64  `json:"size"`   // bytes
	SHA256 []byte `json:"sha256"` // of them
}

// Fact is something that is known beside the policy. The last one of a key counts.
type Fact struct {
	Key   string          `json:"key"`
	Value json.RawMessage `json:"value,omitempty"` // nothing: it is known no more
}

// Sign is the entry as it travels: what is signed, and after a space the facts, or what is sealed.
func (s *Signer) Sign(e *Entry) ([]byte, error) {
	attached := e.Sealed
	var err error
	if len(e.Facts) > 0 {
		if attached, err = json.Marshal(e.Facts); err != nil {
			return nil, fmt.Errorf("write the facts of the log: %w", err)
		}
	}
	if attached != nil {
		sum := sha256.Sum256(attached)
		e.Attached = sum[:]
	}
	out, err := s.sign(typeEntry, e)
	if err != nil {
		return nil, fmt.Errorf("sign the log's entry of revision %d: %w", e.Number, err)
	}
	if attached != nil {
		out = append(append(out, ' '), attached...)
	}
	return out, nil
}

// Bare is an entry as it travels to whoever has not to know what goes beside.
func Bare(text []byte) []byte {
	bare, _, _ := bytes.Cut(text, []byte(" "))
	return bare
}

// Entry reads an entry as it has travelled. The error is a [*ForgedError] where no key that is trusted has signed it.
func (k Keys) Entry(text []byte) (*Entry, error) {
	signed, beside, attached := bytes.Cut(text, []byte(" "))
	e := &Entry{}
	if err := k.open(typeEntry, signed, e); err != nil {
		return nil, err
	}
	if e.Form != logForm {
		return nil, forged(e.name(), "is of form %d, and this program knows form %d: bring it up to date", e.Form, logForm)
	}
	if !attached {
		return e, nil
	}
	if sum := sha256.Sum256(beside); !bytes.Equal(sum[:], e.Attached) {
		return nil, forged(e.name(), "has facts that are not those that were signed")
	}
	if e.Kind != Facting {
		e.Sealed = beside
		return e, nil
	}
	if err := json.Unmarshal(beside, &e.Facts); err != nil {
		return nil, forged(e.name(), "has facts that this program cannot read: bring it up to date")
	}
	return e, nil
}

// name is what is said of an entry.
func (e *Entry) name() string {
	return fmt.Sprintf("the log's %s at place %d, revision %d", e.Kind, e.Seq, e.Number)
}

// Made is the revision that an entry makes, as it is kept.
func (e *Entry) Made() store.Revision {
	return store.Revision{Number: e.Number, At: e.At, By: e.By, Via: e.Via, Note: e.Note, Chain: e.Chain, Form: e.Hash, State: e.State}
}

// Writer is the machine that writes.
type Writer struct {
	Machine string `json:"machine,omitempty"` // its name
	URL     string `json:"url,omitempty"`     // where it answers
}

// Copy is the policy at a place in the log, as a machine has it that follows. It never changes; [Copy.Next] is the one after it.
type Copy struct {
	Policy   *policy.Policy // nil: there is none yet
	Revision store.Revision
	Seq      uint64
	Epoch    uint64
	Facts    container.Map[string, string]
	Writer   Writer
}

// Step is what an entry does to a copy.
type Step struct {
	Copy  Copy
	Done  []policy.RecordChange // to the policy
	Facts []Fact
	Seen  bool // the copy has it already
}

// follows tells whether an entry is the next of a copy. seen is that the copy has it already; the error is a [*ForgedError].
func (c *Copy) follows(e *Entry) (seen bool, err error) {
	last := c.Revision
	switch {
	case e.Seq <= c.Seq:
		return true, nil
	case e.Seq > c.Seq+1:
		return false, forged(e.name(), "does not follow place %d of the log: what is between them is missing", c.Seq)
	case e.Epoch < c.Epoch:
		return false, forged(e.name(), "is of epoch %d, whose time to write is over: epoch %d has begun", e.Epoch, c.Epoch)
	case e.Epoch > c.Epoch && e.Kind != Epoch:
		return false, forged(e.name(), "is of epoch %d, which has not begun: epoch %d has", e.Epoch, c.Epoch)
	case e.Kind != Revision && (e.Number != last.Number || !bytes.Equal(e.Chain, last.Chain)):
		return false, forged(e.name(), "does not follow the revision %d that is here: their chains differ", last.Number)
	}
	return false, nil
}

// Next is the copy after an entry. The error is a [*ForgedError] where the entry does not follow what the copy has: the copy stands.
func (c Copy) Next(e *Entry) (Step, error) {
	stands := Step{Copy: c, Seen: true}
	if seen, err := c.follows(e); seen || err != nil {
		return stands, err
	}
	c.Seq = e.Seq
	switch e.Kind {
	case Epoch:
		c.Epoch, c.Writer = e.Epoch, e.Writer
	case Facting:
		c.Facts = withFacts(c.Facts, e.Facts)
		return Step{Copy: c, Facts: e.Facts}, nil
	case Revision:
		done, err := c.revision(e)
		if err != nil {
			return stands, err
		}
		return Step{Copy: c, Done: done}, nil
	}
	return Step{Copy: c}, nil
}

// revision makes the revision of an entry.
func (c *Copy) revision(e *Entry) ([]policy.RecordChange, error) {
	last, r := c.Revision, e.Made()
	if e.Number != last.Number+1 {
		return nil, forged(e.name(), "does not follow revision %d", last.Number)
	}
	if ok, err := r.Follows(last.Chain, e.Changes); err != nil || !ok {
		return nil, forged(e.name(), "is not what its chain says, after revision %d", last.Number)
	}
	done, err := store.ReadChanges(e.Changes)
	if err != nil {
		return nil, forged(e.name(), "cannot be read by this program: bring it up to date")
	}
	next, _, err := c.Policy.Apply(policy.Changes(done))
	if err != nil {
		return nil, forged(e.name(), "cannot be made of revision %d: %v", last.Number, policy.SaidBy(err))
	}
	c.Policy, c.Revision = next, r
	return done, nil
}

// withFacts are facts with others in their place.
func withFacts(facts container.Map[string, string], others []Fact) container.Map[string, string] {
	if len(others) == 0 {
		return facts
	}
	next := facts.Fork()
	for _, f := range others {
		if len(f.Value) == 0 {
			next.Delete(f.Key)
		} else {
			next.Set(f.Key, string(f.Value))
		}
	}
	return next
}
