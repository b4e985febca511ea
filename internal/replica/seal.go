package replica

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"sentier/internal/database"
	"sentier/internal/store"
)

// Box seals what nobody has to know but the machines that may write: by AES-256 in Galois/Counter Mode (NIST SP 800-38D), with a key that they share.
type Box struct{ aead cipher.AEAD }

const (
	sealingKeySize = 32
	sealedForm     = "sentier-sealed/1" // bound to what is sealed
)

// LoadBox reads the key from a file, which it makes where it is missing.
func LoadBox(path string) (*Box, error) {
	text, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		key := make([]byte, sealingKeySize)
		rand.Read(key)
		text = []byte(base64.StdEncoding.EncodeToString(key) + "\n")
		if err = database.NewFile(path, text); errors.Is(err, fs.ErrExist) { // another machine of the same host has, just now
			text, err = os.ReadFile(path)
		}
	}
	if err != nil {
		return nil, fmt.Errorf("read the sealing key: %w", err)
	}
	key, err := base64.StdEncoding.DecodeString(strings.TrimSpace(string(text)))
	if err != nil || len(key) != sealingKeySize {
		return nil, fmt.Errorf("%s holds no sealing key, which is a line of 44 characters: copy the file from another machine that may write, or give the name of one that is not there", path)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCMWithRandomNonce(block)
	return &Box{aead}, err
}

// beside is what is sealed with an entry: what was done beside the policy, and what is kept of a revision for repetitions of its request.
type beside struct {
	Rows        []store.Row `json:"rows,omitempty"`
	RequestKey  *string     `json:"request_key,omitempty"`
	RequestHash []byte      `json:"request_hash,omitempty"`
	Answer      []byte      `json:"answer,omitempty"`
}

func (b *Box) seal(in *beside) ([]byte, error) {
	text, err := json.Marshal(in)
	if err != nil {
		return nil, err
	}
	packed, err := pack(text)
	if err != nil {
		return nil, err
	}
	return b.aead.Seal(nil, nil, packed, []byte(sealedForm)), nil
}

// ErrSealed is that something was sealed with another key.
var ErrSealed = errors.New("it is sealed with another key: have the file of --sealing-key be the same on all machines that may write")

func (b *Box) open(sealed []byte) (*beside, error) {
	packed, err := b.aead.Open(nil, nil, sealed, []byte(sealedForm))
	if err != nil {
		return nil, ErrSealed
	}
	text, err := unpack(packed)
	if err != nil {
		return nil, err
	}
	out := &beside{}
	return out, json.Unmarshal(text, out)
}
