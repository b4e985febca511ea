package replica

import (
	"bytes"
	"crypto/ed25519"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"time"

	"github.com/go-jose/go-jose/v4"
)

const (
	typeStatus = "sentier-machine"
	typeReport = "sentier-record"
)

// Role is what a machine does.
type Role string

// The roles.
const (
	Writes   Role = "writer"
	StandsBy Role = "standby" // it follows, and writes where the one that does writes no more
	Follows  Role = "follower"
	Gates    Role = "gate" // it decides for a site, and shows nothing
)

// Status is how a machine stands, by its own word.
type Status struct {
	Machine  string    `json:"machine"`
	Role     Role      `json:"role"`
	Key      []byte    `json:"key"` // its public key, with which this is signed
	Version  string    `json:"version"`
	URL      string    `json:"url,omitempty"` // where it answers
	At       time.Time `json:"at"`            // that it said so
	Started  time.Time `json:"started"`
	Epoch    uint64    `json:"epoch"`
	Seq      uint64    `json:"seq"`
	Number   uint64    `json:"revision"`
	Heard    time.Time `json:"heard,omitzero"` // when it last knew that nothing newer was there; zero: it has not since it started
	Ahead    float64   `json:"clock_ahead"`    // seconds by which its clock was ahead of the writer's when it last heard it
	Asked    float64   `json:"asked"`          // questions a second, of late
	Waiting  uint64    `json:"waiting"`        // entries of its record that have not been taken over yet
	Problem  string    `json:"problem,omitempty"`
	Problems time.Time `json:"problem_at,omitzero"`
}

// Report is a part of the record of a machine.
type Report struct {
	Machine string          `json:"machine"`
	Entries json.RawMessage `json:"entries"` // a list of them, as they go to whoever keeps them elsewhere
}

var machineName = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,62}$`)

// CheckMachine tells whether a machine can have a name.
func CheckMachine(name string) error {
	if !machineName.MatchString(name) {
		return fmt.Errorf("%q cannot be the name of a machine: small letters, digits and -, up to 63", name)
	}
	return nil
}

// SignStatus is a status as it travels, signed by the machine itself.
func (s *Signer) SignStatus(st *Status) ([]byte, error) { return s.sign(typeStatus, st) }

// SignReport is a report as it travels, signed by the machine itself.
func (s *Signer) SignReport(r *Report) ([]byte, error) { return s.sign(typeReport, r) }

// ReadStatus reads how a machine says that it stands. That it is the machine is known where its key is one that was admitted under its name.
func ReadStatus(text []byte) (*Status, error) {
	var claimed Status
	if err := unverified(text, &claimed); err != nil {
		return nil, err
	}
	keys, err := ownKey(claimed.Key)
	if err != nil {
		return nil, err
	}
	out := &Status{}
	if err := keys.open(typeStatus, text, out); err != nil {
		return nil, err
	}
	if !bytes.Equal(out.Key, claimed.Key) {
		return nil, errors.New("the status is of two keys")
	}
	return out, CheckMachine(out.Machine)
}

// ReportOf tells of which machine a report says that it is.
func ReportOf(text []byte) (machine string, err error) {
	var claimed Report
	err = unverified(text, &claimed)
	return claimed.Machine, err
}

// ReadReport reads a report that a key has signed.
func ReadReport(text, key []byte) (*Report, error) {
	keys, err := ownKey(key)
	if err != nil {
		return nil, err
	}
	out := &Report{}
	return out, keys.open(typeReport, text, out)
}

// unverified reads what something says, before it is known who has signed it.
func unverified(text []byte, into any) error {
	signed, err := jose.ParseSignedCompact(string(text), []jose.SignatureAlgorithm{jose.EdDSA})
	if err == nil {
		err = json.Unmarshal(signed.UnsafePayloadWithoutVerification(), into)
	}
	if err != nil {
		return fmt.Errorf("what a machine says of itself cannot be read: %w", err)
	}
	return nil
}

func ownKey(key []byte) (Keys, error) {
	if len(key) != ed25519.PublicKeySize {
		return nil, errors.New("a machine says that it has a key that is none")
	}
	return Trust(key)
}
