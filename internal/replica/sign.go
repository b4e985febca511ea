// Package replica is what other machines have of the policy: the log of revisions, each signed and chained to the one before, the snapshots to begin from,
// and a copy that follows both. How they travel is for others to know.
package replica

import (
	"crypto"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"

	"github.com/go-jose/go-jose/v4"

	"sentier/internal/policy"
)

// What is signed says by its type (RFC 7515, section 4.1.9) what it is, so that none passes for another.
const (
	typeEntry    = "sentier-log"
	typeSnapshot = "sentier-snapshot"
	typeBeat     = "sentier-beat"
)

// Signer signs what a machine says: JSON Web Signatures (RFC 7515) in the compact form, with Ed25519 (RFC 8037).
type Signer struct{ key jose.SigningKey }

// NewSigner signs with a key, which is told by its thumbprint (RFC 7638).
func NewSigner(key ed25519.PrivateKey) (*Signer, error) {
	id, err := keyID(key.Public().(ed25519.PublicKey))
	if err != nil {
		return nil, err
	}
	return &Signer{jose.SigningKey{Algorithm: jose.EdDSA, Key: jose.JSONWebKey{Key: key, KeyID: id}}}, nil
}

func keyID(key ed25519.PublicKey) (string, error) {
	sum, err := (&jose.JSONWebKey{Key: key}).Thumbprint(crypto.SHA256)
	if err != nil {
		return "", fmt.Errorf("name the key: %w", err)
	}
	return base64.RawURLEncoding.EncodeToString(sum), nil
}

func (s *Signer) sign(typ string, body any) ([]byte, error) {
	text, err := json.Marshal(body)
	if err != nil {
		return nil, err
	}
	signer, err := jose.NewSigner(s.key, (&jose.SignerOptions{}).WithType(jose.ContentType(typ)))
	if err != nil {
		return nil, err
	}
	signed, err := signer.Sign(text)
	if err != nil {
		return nil, err
	}
	out, err := signed.CompactSerialize()
	return []byte(out), err
}

// Keys are the keys that a machine trusts, by their thumbprints.
type Keys map[string]ed25519.PublicKey

// Trust are some keys.
func Trust(keys ...ed25519.PublicKey) (Keys, error) {
	out := Keys{}
	for _, key := range keys {
		id, err := keyID(key)
		if err != nil {
			return nil, err
		}
		out[id] = key
	}
	return out, nil
}

// ForgedError is that something was not signed by whom it has to be, or does not go with what came before it. What was there before stands.
type ForgedError struct {
	What    string // it would be
	Problem string
}

func (e *ForgedError) Error() string { return e.What + " " + e.Problem }

func forged(what, form string, values ...any) error {
	return &ForgedError{what, fmt.Sprintf(form, values...)}
}

// open reads what a key that is trusted has signed as being of a type.
func (k Keys) open(typ string, text []byte, into any) error {
	signed, err := jose.ParseSignedCompact(string(text), []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil {
		return forged(typ, "cannot be read: it is cut off, or something else")
	}
	header := signed.Signatures[0].Protected
	if found, _ := header.ExtraHeaders[jose.HeaderType].(string); found != typ {
		return forged(typ, "is none: it says that it is %q", policy.Clip(found))
	}
	key, ok := k[header.KeyID]
	if !ok {
		return forged(typ, "is signed by the key %s, which is not trusted here", policy.Clip(header.KeyID))
	}
	body, err := signed.Verify(key)
	if err != nil {
		return forged(typ, "is not what its key has signed")
	}
	if err := json.Unmarshal(body, into); err != nil {
		return forged(typ, "is signed, but cannot be read: it is of a version that this program does not know")
	}
	return nil
}
