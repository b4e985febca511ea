package store

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"sync"
	"syscall"
)

// HeadName is the file beside the database that says how far it must go.
const HeadName = "sentier.head"

// mark is the last acknowledged revision. It is kept outside the database and its log, so that a database that has lost its
// end does not pass for a whole one.
type mark struct {
	number   uint64
	chain    [sha256.Size]byte
	verified uint64 // the last revision whose chain was read back and found right
	small    uint64 // how many changes of credentials were acknowledged
}

// head is the file of the mark: two slots that are written in turn, so that a write that breaks off leaves the other.
type head struct {
	mu   sync.Mutex
	file *os.File
	turn uint64
	mark mark
}

const (
	headMagic = "sentier-head/1\n\n"
	slotSize  = 512
	slotUsed  = len(headMagic) + 4*8 + sha256.Size
)

func (m mark) slot(turn uint64) []byte {
	out := append(make([]byte, 0, slotSize), headMagic...)
	out = binary.BigEndian.AppendUint64(out, turn)
	out = binary.BigEndian.AppendUint64(out, m.number)
	out = binary.BigEndian.AppendUint64(out, m.verified)
	out = binary.BigEndian.AppendUint64(out, m.small)
	out = append(out, m.chain[:]...)
	sum := sha256.Sum256(out)
	out = append(out, sum[:]...)
	return out[:slotSize]
}

// readSlot reads a slot; ok is false where it is not what was written.
func readSlot(data []byte) (m mark, turn uint64, ok bool) {
	if len(data) < slotSize || !bytes.HasPrefix(data, []byte(headMagic)) {
		return m, 0, false
	}
	sum := sha256.Sum256(data[:slotUsed])
	if !bytes.Equal(sum[:], data[slotUsed:slotUsed+sha256.Size]) {
		return m, 0, false
	}
	at := data[len(headMagic):]
	turn, m.number, m.verified, m.small = binary.BigEndian.Uint64(at), binary.BigEndian.Uint64(at[8:]), binary.BigEndian.Uint64(at[16:]), binary.BigEndian.Uint64(at[24:])
	copy(m.chain[:], at[32:])
	return m, turn, true
}

// readMark reads the mark of a folder; there is false where it has none.
func readMark(dir string) (m mark, turn uint64, there bool, err error) {
	data, err := os.ReadFile(filepath.Join(dir, HeadName))
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) || err == nil && len(data) == 0 {
		return m, 0, false, nil
	}
	if err != nil {
		return m, 0, false, fmt.Errorf("read the mark of the last revision: %w", err)
	}
	first, turn1, ok1 := readSlot(data)
	second, turn2, ok2 := readSlot(data[min(len(data), slotSize):])
	switch {
	case ok1 && (!ok2 || turn1 > turn2):
		return first, turn1, true, nil
	case ok2:
		return second, turn2, true, nil
	}
	return m, 0, false, fmt.Errorf("%w: %s cannot be read, so that nobody can tell which revision is the last; put a good copy of the folder in its place, or restore the database into another folder with “sentier restore %s --data DIR”",
		ErrDamaged, HeadName, filepath.Join(dir, FileName))
}

// openHead opens the file of the mark for writing, and makes it where it is missing.
func openHead(dir string, m mark, turn uint64) (*head, error) {
	file, err := os.OpenFile(filepath.Join(dir, HeadName), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the mark of the last revision: %w", err)
	}
	h := &head{file: file, turn: turn, mark: m}
	size, err := file.Seek(0, io.SeekEnd)
	if err == nil && size < 2*slotSize { // both slots are there from the beginning: later writes need no room on the disk
		if err = h.write(m); err == nil {
			err = h.write(m)
		}
		err = errors.Join(err, file.Sync())
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("write the mark of the last revision: %w", err), file.Close())
	}
	return h, nil
}

// write makes a mark the present one, and gives back when it is on the disk.
func (h *head) write(m mark) error { return h.update(func(now *mark) { *now = m }) }

// update changes the present mark, and gives back when it is on the disk.
func (h *head) update(change func(m *mark)) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	m, turn := h.mark, h.turn+1
	change(&m)
	if _, err := h.file.WriteAt(m.slot(turn), int64(turn%2)*slotSize); err != nil {
		return err
	}
	// The size of the file stays, so that what it holds is all that has to reach the disk.
	if err := syscall.Fdatasync(int(h.file.Fd())); err != nil {
		return err
	}
	h.turn, h.mark = turn, m
	return nil
}

// again takes up a mark that another process has written.
func (h *head) again(m mark, turn uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if turn > h.turn {
		h.turn, h.mark = turn, m
	}
}

func (h *head) read() mark {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.mark
}
