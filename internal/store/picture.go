package store

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"strings"

	"github.com/cespare/xxhash/v2"
	"github.com/zeebo/blake3"
	"gorm.io/gorm"

	"sentier/internal/database"
	"sentier/internal/policy"
)

// PictureName is the file beside the database that holds the policy at a revision in few bytes, from which a service starts at once. It
// can be removed at any time: what is missing or does not fit is read from the database instead.
const PictureName = "sentier.picture"

// worthPicture is from how many records on a start from a picture is worth its room on the disk. Tests know smaller ones.
var worthPicture = 50_000

// picture is a policy at a revision. Its head says of which: it is taken for the truth only where the database has that very revision.
type picture struct {
	number uint64
	chain  []byte
	parts  []policy.Part
	hash   []byte // over all of the file
}

const (
	pictureMagic = "sentier-picture/1\n"
	pictureHead  = len(pictureMagic) + 8 + 8 + 32 + 8 + 8
	partHead     = 1 + 4 + 4 + 8
)

func (p *picture) head() []byte {
	out := append(make([]byte, 0, pictureHead), pictureMagic...)
	out = binary.BigEndian.AppendUint64(out, policy.PictureForm)
	out = binary.BigEndian.AppendUint64(out, p.number)
	out = append(out, p.chain...)
	out = binary.BigEndian.AppendUint64(out, uint64(len(p.parts)))
	return binary.BigEndian.AppendUint64(out, xxhash.Sum64(out))
}

// KeepPicture writes the picture of the policy at a revision, where one is worth it. What is there stays until it is written.
func (s *Store) KeepPicture(p *policy.Policy, r Revision) error {
	if p.Len() < worthPicture || len(r.Chain) != 32 {
		return nil
	}
	path := filepath.Join(s.dir, PictureName)
	file, err := os.OpenFile(path+".part", os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("keep a picture of the policy: %w", err)
	}
	hash, err := writePicture(file, &picture{number: r.Number, chain: r.Chain}, p)
	if err = errors.Join(err, file.Close()); err == nil {
		err = s.keepOwn(context.Background(), func(tx *gorm.DB) error { return setOwnFact(tx, factPicture, pictureFact(r.Number, hash)) })
	}
	if err == nil {
		err = os.Rename(path+".part", path)
	}
	if err != nil {
		return fmt.Errorf("keep a picture of the policy: %w", database.Full(errors.Join(err, remove(path+".part"))))
	}
	return nil
}

// pictureFact is how the database knows a picture: by the revision that it is of, and a hash over all of its file (BLAKE3).
func pictureFact(number uint64, hash []byte) string { return fmt.Sprintf("%d %x", number, hash) }

// hashPicture is the hash over the file of a picture: of its parts, and of its head, which is known after them.
func hashPicture(file []byte) []byte {
	h := blake3.New()
	h.Write(file[pictureHead:]) // a hash never fails
	h.Write(file[:pictureHead])
	return h.Sum(nil)
}

func writePicture(file *os.File, head *picture, p *policy.Policy) (hash []byte, err error) {
	buffered := bufio.NewWriterSize(file, 1<<20)
	if _, err := buffered.Write(make([]byte, pictureHead)); err != nil { // which is known at the end
		return nil, err
	}
	sum := blake3.New()
	out := io.MultiWriter(buffered, sum)
	err = p.Picture(func(part policy.Part) error {
		head.parts = append(head.parts, policy.Part{})
		h := append(make([]byte, 0, partHead), byte(part.Type))
		h = binary.BigEndian.AppendUint32(h, uint32(part.Count))
		h = binary.BigEndian.AppendUint32(h, uint32(len(part.Body)))
		h = binary.BigEndian.AppendUint64(h, xxhash.Sum64(part.Body))
		if _, err := out.Write(h); err != nil {
			return err
		}
		_, err := out.Write(part.Body)
		return err
	})
	if err == nil {
		err = buffered.Flush()
	}
	if err == nil {
		sum.Write(head.head())
		_, err = file.WriteAt(head.head(), 0)
	}
	return sum.Sum(nil), err
}

// readPicture reads the picture of a folder; nil where there is none that this program has written, and that is whole.
func readPicture(dir string) (*picture, error) {
	data, err := os.ReadFile(filepath.Join(dir, PictureName))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if len(data) < pictureHead || !bytes.HasPrefix(data, []byte(pictureMagic)) {
		return nil, nil
	}
	at := data[len(pictureMagic):]
	p := &picture{number: binary.BigEndian.Uint64(at[8:]), chain: at[16:48:48], parts: make([]policy.Part, min(binary.BigEndian.Uint64(at[48:]), uint64(len(data)/partHead)))}
	if !bytes.Equal(p.head(), data[:pictureHead]) {
		return nil, nil
	}
	rest := data[pictureHead:]
	for i := range p.parts {
		if len(rest) < partHead {
			return nil, nil
		}
		n := int(binary.BigEndian.Uint32(rest[5:]))
		if len(rest) < partHead+n {
			return nil, nil
		}
		body := rest[partHead : partHead+n : partHead+n]
		if xxhash.Sum64(body) != binary.BigEndian.Uint64(rest[9:]) {
			return nil, nil
		}
		p.parts[i] = policy.Part{Type: policy.Type(rest[0]), Count: int(binary.BigEndian.Uint32(rest[1:])), Body: body}
		rest = rest[partHead+n:]
	}
	if len(rest) > 0 {
		return nil, nil
	}
	p.hash = hashPicture(data)
	return p, nil
}

// mostBehind is how many changes of records a picture may be behind the database.
const mostBehind = 20_000

// fromPicture reads the policy from the picture, and what was changed since from the database; nil where the picture does not fit. The rows
// of records are not looked at: [Store.CheckRows] does that, once the service answers.
func (s *Store) fromPicture(ctx context.Context) (*reading, error) {
	pic, err := readPicture(s.dir)
	if pic == nil || err != nil {
		return nil, err
	}
	out := &reading{}
	var since []policy.RecordChange
	fits := false
	err = s.atRevision(ctx, &out.last, func(tx *gorm.DB) error {
		var of []Revision
		if err := tx.Omit("answer").Where("number = ?", pic.number).Find(&of).Error; err != nil {
			return err
		}
		var known []string
		if err := tx.Raw("SELECT value FROM facts WHERE name = ?", factPicture).Scan(&known).Error; err != nil {
			return err
		}
		if fits = len(of) == 1 && bytes.Equal(of[0].Chain, pic.chain) && len(out.last.State) == 32 && len(known) == 1 && known[0] == pictureFact(pic.number, pic.hash); !fits {
			return nil
		}
		var rows []Change
		if err := tx.Where("revision > ?", pic.number).Order("revision, seq").Limit(mostBehind + 1).Find(&rows).Error; err != nil {
			return err
		}
		fits = len(rows) <= mostBehind
		for i := range rows {
			c, err := rows[i].read()
			if err != nil {
				return fmt.Errorf("%w (%w)", ErrDamaged, err)
			}
			since = append(since, c)
		}
		return nil
	})
	if err != nil || !fits {
		return nil, err
	}
	p, err := policy.FromPicture(pic.parts)
	if err != nil {
		return nil, nil // it is read from the database
	}
	if len(since) > 0 {
		next, _, err := p.Apply(policy.Changes(since))
		if err != nil {
			return nil, nil
		}
		p = next
	}
	out.policy, out.of = p, pic.number
	for i := range out.sum {
		out.sum[i] = binary.BigEndian.Uint64(out.last.State[8*i:])
	}
	return out, nil
}

// verifyPicture holds the picture against the hash by which the database knows it, and against the rows. One that the database does not know is not used, and so
// not looked at.
func (s *Store) verifyPicture(ctx context.Context) error {
	if s.dir == s.path { // a backup has none
		return nil
	}
	pic, err := readPicture(s.dir)
	if pic == nil || err != nil {
		return err
	}
	known, err := s.FactOf(ctx, factPicture)
	if err != nil || !strings.HasPrefix(known, fmt.Sprintf("%d ", pic.number)) {
		return err
	}
	wrong := &WrongError{What: PictureName, Problem: fmt.Sprintf("is not the picture of revision %d that was kept: remove it, and the next start reads the rows", pic.number)}
	if known != pictureFact(pic.number, pic.hash) {
		return wrong
	}
	drawn, err := s.fromPicture(ctx)
	if err != nil || drawn == nil {
		return err
	}
	rows, err := s.read(ctx)
	if err != nil {
		return err
	}
	if rows.last.Number != drawn.last.Number {
		return nil // somebody has written meanwhile
	}
	b := policy.NewBuilder(nil).Kept()
	for _, record := range rows.records {
		b.Add(record)
	}
	p, err := b.Policy()
	if err == nil && len(drawn.policy.Compare(p)) > 0 {
		return wrong
	}
	return err
}

// CheckRows reads all rows of records and holds them against what the last revision left, and the chain up to the picture, where the
// service has started from a picture and has not seen them.
func (s *Store) CheckRows(ctx context.Context) error {
	if !s.pictured {
		return nil
	}
	var last Revision
	var now database.Sum
	err := s.atRevision(ctx, &last, func(tx *gorm.DB) (err error) {
		now, err = present(tx)
		return err
	})
	if err == nil && !bytes.Equal(now.Bytes(), last.State) {
		err = fmt.Errorf("%w (the records are not those that revision %d left)", ErrDamaged, last.Number)
	}
	if err == nil {
		err = s.readBack(ctx)
	}
	return database.Damaged(err)
}
