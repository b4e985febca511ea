package audit

import (
	"bufio"
	"bytes"
	"context"
	"crypto/ed25519"
	"crypto/x509"
	"database/sql"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"slices"
	"time"

	"gorm.io/gorm"

	"sentier/internal/database"
)

// KeyName is the file of the key that checkpoints are signed with, PEM of PKCS #8, in the folder of the service.
const KeyName = "sentier.key"

const timeForm = time.RFC3339

// Checkpoint is the service's word that the record went as far as an entry, by a chain: signed with Ed25519 (RFC 8032), so that whoever
// keeps it elsewhere can tell whether the record still holds it.
type Checkpoint struct {
	Entry     uint64
	At        time.Time
	Chain     []byte
	Key       ed25519.PublicKey
	Signature []byte
}

const checkpointForm = "sentier-checkpoint/1"

// signed are the bytes that are signed.
func (c *Checkpoint) signed() []byte {
	return fmt.Appendf(nil, "%s\n%d\n%s\n%x\n", checkpointForm, c.Entry, c.At.UTC().Format(timeForm), c.Chain)
}

type writtenCheckpoint struct {
	Format    string    `json:"format"`
	Entry     uint64    `json:"entry"`
	At        time.Time `json:"at"`
	Chain     string    `json:"chain"`
	Key       []byte    `json:"key"`
	Signature []byte    `json:"signature"`
}

// MarshalJSON writes a checkpoint as one line: format, entry, at (RFC 3339), chain (SHA-256, hexadecimal), key and signature (base64).
func (c Checkpoint) MarshalJSON() ([]byte, error) {
	return json.Marshal(writtenCheckpoint{checkpointForm, c.Entry, c.At.UTC(), hex.EncodeToString(c.Chain), c.Key, c.Signature})
}

// UnmarshalJSON reads what MarshalJSON has written.
func (c *Checkpoint) UnmarshalJSON(data []byte) error {
	var w writtenCheckpoint
	if err := json.Unmarshal(data, &w); err != nil {
		return err
	}
	chain, err := hex.DecodeString(w.Chain)
	if err != nil || w.Format != checkpointForm || len(w.Key) != ed25519.PublicKeySize {
		return fmt.Errorf("it is no checkpoint of the form %s", checkpointForm)
	}
	*c = Checkpoint{w.Entry, w.At, chain, w.Key, w.Signature}
	return nil
}

// ReadCheckpoints reads checkpoints, one a line.
func ReadCheckpoints(from io.Reader) ([]Checkpoint, error) {
	var out []Checkpoint
	lines := bufio.NewScanner(from)
	for n := 1; lines.Scan(); n++ {
		line := bytes.TrimSpace(lines.Bytes())
		if len(line) == 0 {
			continue
		}
		var c Checkpoint
		if err := json.Unmarshal(line, &c); err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		out = append(out, c)
	}
	if err := lines.Err(); err != nil {
		return nil, err
	}
	if len(out) == 0 {
		return nil, errors.New("it holds no checkpoint")
	}
	return out, nil
}

// check tells whether a checkpoint is what its key has signed, and whether that is the key in question; nil: any.
func (c *Checkpoint) check(key ed25519.PublicKey) error {
	what := "the checkpoint at " + EntryName(c.Entry)
	if len(c.Key) != ed25519.PublicKeySize || !ed25519.Verify(c.Key, c.signed(), c.Signature) {
		return &database.WrongError{What: what, Problem: "is not what its key has signed"}
	}
	if key != nil && !key.Equal(c.Key) {
		return &database.WrongError{What: what, Problem: "is signed by another key than the one given"}
	}
	return nil
}

func sortCheckpoints(list []Checkpoint) {
	slices.SortStableFunc(list, func(a, b Checkpoint) int { return int(int64(a.Entry) - int64(b.Entry)) })
}

func checkpoints(tx *gorm.DB) ([]Checkpoint, error) {
	rows, err := tx.Raw("SELECT seq, at, chain, key, signature FROM audit_checkpoints ORDER BY seq").Rows()
	if err != nil {
		return nil, database.Damaged(err)
	}
	defer rows.Close()
	var out []Checkpoint
	for rows.Next() {
		var c Checkpoint
		var seq, at int64
		if err := rows.Scan(&seq, &at, &c.Chain, (*[]byte)(&c.Key), &c.Signature); err != nil {
			return nil, database.Damaged(err)
		}
		c.Entry, c.At = uint64(seq), time.Unix(at, 0).UTC()
		out = append(out, c)
	}
	return out, database.Damaged(rows.Err())
}

// Sign makes a checkpoint of what is in the record now, and keeps it. There is none of an empty record.
func (r *Record) Sign() (Checkpoint, error) {
	var c Checkpoint
	q := &request{done: make(chan error, 1)}
	q.after = func(t tail) []Entry {
		c = Checkpoint{Entry: t.seq, At: r.Clock().UTC().Truncate(time.Second), Chain: t.chain, Key: r.Key.Public().(ed25519.PublicKey)}
		c.Signature = ed25519.Sign(r.Key, c.signed())
		return nil
	}
	q.more = func(tx *sql.Tx) error {
		_, err := tx.Exec("INSERT INTO audit_checkpoints (seq, at, chain, key, signature) VALUES (?, ?, ?, ?, ?) ON CONFLICT (seq) DO UPDATE SET at = excluded.at, chain = excluded.chain, key = excluded.key, signature = excluded.signature",
			int64(c.Entry), c.At.Unix(), c.Chain, []byte(c.Key), c.Signature)
		return err
	}
	r.queue <- q
	if err := <-q.done; err != nil {
		return c, err
	}
	return c, r.keepElsewhere(c)
}

// keepElsewhere appends a checkpoint to the file that is kept elsewhere.
func (r *Record) keepElsewhere(c Checkpoint) error {
	if r.Beyond == "" {
		return nil
	}
	line, err := json.Marshal(c)
	if err != nil {
		return err
	}
	file, err := os.OpenFile(r.Beyond, os.O_APPEND|os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("keep the checkpoint elsewhere: %w", err)
	}
	_, err = file.Write(append(line, '\n'))
	return errors.Join(err, file.Sync(), file.Close())
}

// PublicKey is the key by which checkpoints can be verified.
func (r *Record) PublicKey() ed25519.PublicKey { return r.Key.Public().(ed25519.PublicKey) }

// ParseKey reads a public key as it is shown: base64 of its 32 bytes.
func ParseKey(text string) (ed25519.PublicKey, error) {
	key, err := base64.StdEncoding.DecodeString(text)
	if err != nil || len(key) != ed25519.PublicKeySize {
		return nil, errors.New("it is no Ed25519 public key: give the 44 characters that “sentier audit key” shows")
	}
	return key, nil
}

// LoadKey reads the service's key, and makes one where there is none.
func LoadKey(path string) (ed25519.PrivateKey, error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return makeKey(path)
	}
	if err != nil {
		return nil, fmt.Errorf("read the service's key: %w", err)
	}
	block, _ := pem.Decode(data)
	if block == nil {
		return nil, fmt.Errorf("the service's key %s is no PEM file: put a good copy in its place, or move it away and a new one is made", path)
	}
	parsed, err := x509.ParsePKCS8PrivateKey(block.Bytes)
	key, ok := parsed.(ed25519.PrivateKey)
	if err != nil || !ok {
		return nil, fmt.Errorf("the service's key %s is no Ed25519 key: put a good copy in its place, or move it away and a new one is made", path)
	}
	return key, nil
}

func makeKey(path string) (ed25519.PrivateKey, error) {
	_, key, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil, err
	}
	body, err := x509.MarshalPKCS8PrivateKey(key)
	if err != nil {
		return nil, err
	}
	if err := database.NewFile(path, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: body})); err != nil {
		return nil, fmt.Errorf("make the service's key: %w", err)
	}
	return key, nil
}

// keyEntry says by which key checkpoints are signed from here on.
func (r *Record) keyEntry() (Entry, error) {
	more, err := json.Marshal(map[string][]byte{"key": r.PublicKey()})
	return Entry{At: r.Clock(), Kind: Key, Outcome: Made, By: "", Via: "service", More: more}, err
}

// AnnounceKey writes which key signs from here on, where the record names another, or none.
func (r *Record) AnnounceKey(ctx context.Context) error {
	e, err := r.keyEntry()
	if err != nil {
		return err
	}
	last, ok, err := r.LastOf(ctx, Key)
	if err != nil || ok && bytes.Equal(last.More, e.More) {
		return err
	}
	return r.Add(e)
}
