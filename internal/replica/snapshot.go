package replica

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/zstd"

	"sentier/internal/container"
	"sentier/internal/database"
	"sentier/internal/policy"
	"sentier/internal/store"
)

// What follows the head of a snapshot, compressed by Zstandard (RFC 8878): the facts, a line each, and then the policy.
const (
	formRows    = 1 // as the rows of [store.Store.Rows], which every version reads
	formPicture = 2 // as a picture ([policy.Policy.Picture]), which a program of the same records has at once
)

// PictureForm is the form of pictures that this program has.
var PictureForm = policy.PictureForm

// OtherError is that a snapshot is a picture of a program with other records. One of rows can be read.
type OtherError struct{ What string }

func (e *OtherError) Error() string {
	return e.What + " is a picture that this version of the program does not know"
}

// factLine begins the line of a fact: then come its key and its value, with tabs between, which neither holds.
const factLine = "fact\t"

// Head says what a snapshot is of. It is the first line, signed; the rest is the body.
type Head struct {
	Form    int       `json:"form"`
	Picture uint64    `json:"picture,omitempty"` // form of the picture
	Epoch   uint64    `json:"epoch"`
	Seq     uint64    `json:"seq"` // of the last entry of the log that is in it
	Number  uint64    `json:"revision"`
	Chain   []byte    `json:"chain"`
	State   []byte    `json:"state"` // hash over all rows
	At      time.Time `json:"at"`    // of the revision
	By      string    `json:"by,omitempty"`
	Via     string    `json:"via,omitempty"`
	Note    string    `json:"note,omitempty"`
	Made    time.Time `json:"made"` // when it was taken
	Size    int64     `json:"size"` // of the body, in bytes
	SHA256  []byte    `json:"sha256"`
	Writer
}

const (
	mostHead   = 64 << 10  // of the first line of a snapshot, in bytes
	mostWindow = 256 << 20 // of what is unpacked at a time
)

// body writes the policy of a snapshot, as it is at the moment at which it calls begun, and gives its revision.
type body func(ctx context.Context, to io.Writer, begun func()) (store.Revision, error)

// pictured writes a policy as a picture.
func pictured(p *policy.Policy, r store.Revision) body {
	return func(_ context.Context, to io.Writer, begun func()) (store.Revision, error) {
		begun()
		return r, p.Picture(func(part policy.Part) error {
			head := append(make([]byte, 0, partHead), byte(part.Type))
			head = binary.BigEndian.AppendUint32(head, uint32(part.Count))
			head = binary.BigEndian.AppendUint32(head, uint32(len(part.Body)))
			if _, err := to.Write(head); err != nil {
				return err
			}
			_, err := to.Write(part.Body)
			return err
		})
	}
}

// partHead is how long what stands before a part of a picture is: its type, how many records it has, and how many bytes.
const partHead = 1 + 4 + 4

// mostPart bounds a part of a picture, in bytes.
const mostPart = 1 << 30

// readPicture reads a policy that [pictured] has written.
func readPicture(from io.Reader) (*policy.Policy, error) {
	var parts []policy.Part
	head := make([]byte, partHead)
	for {
		if _, err := io.ReadFull(from, head); err == io.EOF {
			return policy.FromPicture(parts)
		} else if err != nil {
			return nil, err
		}
		size := binary.BigEndian.Uint32(head[5:])
		if size > mostPart {
			return nil, policy.ErrPicture
		}
		part := policy.Part{Type: policy.Type(head[0]), Count: int(binary.BigEndian.Uint32(head[1:])), Body: make([]byte, size)}
		if _, err := io.ReadFull(from, part.Body); err != nil {
			return nil, err
		}
		parts = append(parts, part)
	}
}

// Standing is where in the log a snapshot stands.
type Standing struct {
	Epoch, Seq uint64
	Writer     Writer
	Facts      map[string]string
	Made       time.Time

	form    int
	picture uint64
}

// scratch opens a file without a name, of which nothing stays, however the process ends.
func scratch() (*os.File, error) {
	file, err := os.CreateTemp("", "sentier-snapshot-*")
	if err != nil {
		return nil, err
	}
	if err := os.Remove(file.Name()); err != nil {
		return nil, errors.Join(err, file.Close())
	}
	return file, nil
}

// writeSnapshot writes a snapshot of the policy as it is when it calls begun into a file that is empty. Nothing but the head is kept in memory.
func (s *Signer) writeSnapshot(ctx context.Context, from body, at Standing, begun func(), into *os.File) (Head, error) {
	packed, err := scratch()
	if err != nil {
		return Head{}, fmt.Errorf("take a snapshot: %w", err)
	}
	defer packed.Close()
	head, err := s.pack(ctx, from, at, begun, packed, into)
	if err != nil {
		return head, fmt.Errorf("take a snapshot: %w", database.Full(err))
	}
	return head, nil
}

func (s *Signer) pack(ctx context.Context, from body, at Standing, begun func(), body, into *os.File) (Head, error) {
	hash := sha256.New()
	packed, err := zstd.NewWriter(io.MultiWriter(body, hash), zstd.WithEncoderLevel(zstd.SpeedFastest))
	if err != nil {
		return Head{}, err
	}
	for _, key := range slices.Sorted(maps.Keys(at.Facts)) {
		if _, err := fmt.Fprintf(packed, "%s%s\t%s\n", factLine, key, at.Facts[key]); err != nil {
			return Head{}, err
		}
	}
	last, err := from(ctx, packed, begun)
	if err = errors.Join(err, packed.Close()); err != nil {
		return Head{}, err
	}
	size, err := body.Seek(0, io.SeekCurrent)
	if err != nil {
		return Head{}, err
	}
	head := Head{
		Form: at.form, Picture: at.picture, Epoch: at.Epoch, Seq: at.Seq, Number: last.Number, Chain: last.Chain, State: last.State, At: last.At, By: last.By, Via: last.Via, Note: last.Note,
		Made: at.Made.UTC(), Size: size, SHA256: hash.Sum(nil), Writer: at.Writer,
	}
	line, err := s.sign(typeSnapshot, head)
	if err != nil {
		return head, err
	}
	if _, err := into.Write(append(line, '\n')); err != nil {
		return head, err
	}
	if _, err := body.Seek(0, io.SeekStart); err != nil {
		return head, err
	}
	_, err = io.Copy(into, body)
	return head, err
}

// opened is a snapshot that is known to be what was signed.
type opened struct {
	head     Head
	facts    container.Map[string, string]
	rows     *bufio.Reader
	unpacked *zstd.Decoder
}

// openSnapshot opens a snapshot. The error is a [*ForgedError] where no key that is trusted has signed it, or it is not whole: nothing of what it holds is
// looked at before it is known to be what was signed.
func (k Keys) openSnapshot(from io.ReadSeeker) (o opened, err error) {
	if o.head, err = k.TakeSnapshot(from, io.Discard); err != nil {
		return o, err
	}
	if _, err := from.Seek(0, io.SeekStart); err != nil {
		return o, err
	}
	in := bufio.NewReaderSize(from, mostHead)
	if _, err := in.ReadSlice('\n'); err != nil {
		return o, err
	}
	if o.unpacked, err = zstd.NewReader(io.LimitReader(in, o.head.Size), zstd.WithDecoderMaxMemory(mostWindow)); err != nil {
		return o, err
	}
	o.rows = bufio.NewReaderSize(o.unpacked, 1<<20)
	if o.facts, err = readFacts(o.rows); err != nil {
		o.unpacked.Close()
		return o, forged(o.head.name(), "cannot be read by this program: %v", err)
	}
	return o, nil
}

// ReadSnapshot reads a snapshot. The error is a [*ForgedError] where no key that is trusted has signed it, or it is not whole.
func (k Keys) ReadSnapshot(from io.ReadSeeker) (Copy, Head, error) {
	o, err := k.openSnapshot(from)
	if err != nil {
		return Copy{}, o.head, err
	}
	defer o.unpacked.Close()
	head := o.head
	var p *policy.Policy
	state := head.State
	if head.Form == formPicture {
		p, err = readPicture(o.rows)
	} else {
		p, state, err = store.ReadRows(o.rows)
	}
	if err != nil {
		return Copy{}, head, forged(head.name(), "cannot be read by this program: %v", err)
	}
	if !bytes.Equal(state, head.State) {
		return Copy{}, head, forged(head.name(), "holds other records than its revision left")
	}
	return Copy{
		Policy: p, Epoch: head.Epoch, Seq: head.Seq, Writer: head.Writer, Facts: o.facts,
		Revision: store.Revision{Number: head.Number, At: head.At, By: head.By, Via: head.Via, Note: head.Note, Chain: head.Chain, State: head.State},
	}, head, nil
}

func readFacts(from *bufio.Reader) (container.Map[string, string], error) {
	var none container.Map[string, string]
	facts := none.Fork()
	for {
		if next, err := from.Peek(len(factLine)); err != nil || string(next) != factLine {
			return facts, nil // the rows begin, or say what is wrong
		}
		line, err := from.ReadString('\n')
		if err != nil {
			return facts, err
		}
		key, value, ok := strings.Cut(strings.TrimSuffix(strings.TrimPrefix(line, factLine), "\n"), "\t")
		if !ok {
			return facts, errors.New("a fact has no value")
		}
		facts.Set(key, value)
	}
}

// TakeSnapshot copies a snapshot from where it comes from to where it is kept, as far as it says that it goes. The error is a [*ForgedError] where no key
// that is trusted has signed it, or it is not whole.
func (k Keys) TakeSnapshot(from io.Reader, to io.Writer) (Head, error) {
	var head Head
	in := bufio.NewReaderSize(from, mostHead)
	line, err := in.ReadSlice('\n')
	if err != nil {
		return head, forged("the snapshot", "has no head: it is cut off, or something else")
	}
	if err := k.open(typeSnapshot, bytes.TrimSuffix(line, []byte("\n")), &head); err != nil {
		return head, err
	}
	if head.Form != formRows && head.Form != formPicture {
		return head, forged(head.name(), "is of form %d, which this program does not know: bring it up to date", head.Form)
	}
	if head.Form == formPicture && head.Picture != policy.PictureForm {
		return head, &OtherError{head.name()}
	}
	hash := sha256.New()
	if _, err := to.Write(line); err != nil {
		return head, database.Full(err)
	}
	if _, err := io.CopyN(io.MultiWriter(to, hash), in, head.Size); err != nil && !errors.Is(err, io.EOF) {
		return head, fmt.Errorf("take over %s: %w", head.name(), database.Full(err))
	}
	if !bytes.Equal(hash.Sum(nil), head.SHA256) {
		return head, forged(head.name(), "is not what was signed: it is cut off, or was changed on its way")
	}
	return head, nil
}

// name is what is said of a snapshot.
func (h *Head) name() string { return fmt.Sprintf("the snapshot of revision %d", h.Number) }
