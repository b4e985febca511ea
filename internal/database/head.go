package database

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

// Mark is how far a file was acknowledged. It is kept outside the file and its log, so that one that has lost its end does not pass for a
// whole one.
type Mark struct {
	Number   uint64            // of the last link of the chain
	Chain    [sha256.Size]byte // its hash
	Verified uint64            // the last link that was read back and found right
	Small    uint64            // how many changes beside the chain were acknowledged
}

// Head is the file of a mark: two slots that are written in turn, so that a write that breaks off leaves the other.
type Head struct {
	mu   sync.Mutex
	file *os.File
	turn uint64
	mark Mark
}

const (
	headMagic = "sentier-head/1\n\n"
	slotSize  = 512
	slotUsed  = len(headMagic) + 4*8 + sha256.Size
)

func (m Mark) slot(turn uint64) []byte {
	out := append(make([]byte, 0, slotSize), headMagic...)
	out = binary.BigEndian.AppendUint64(out, turn)
	out = binary.BigEndian.AppendUint64(out, m.Number)
	out = binary.BigEndian.AppendUint64(out, m.Verified)
	out = binary.BigEndian.AppendUint64(out, m.Small)
	out = append(out, m.Chain[:]...)
	sum := sha256.Sum256(out)
	out = append(out, sum[:]...)
	return out[:slotSize]
}

// readSlot reads a slot; ok is false where it is not what was written.
func readSlot(data []byte) (m Mark, turn uint64, ok bool) {
	if len(data) < slotSize || !bytes.HasPrefix(data, []byte(headMagic)) {
		return m, 0, false
	}
	sum := sha256.Sum256(data[:slotUsed])
	if !bytes.Equal(sum[:], data[slotUsed:slotUsed+sha256.Size]) {
		return m, 0, false
	}
	at := data[len(headMagic):]
	turn, m.Number, m.Verified, m.Small = binary.BigEndian.Uint64(at), binary.BigEndian.Uint64(at[8:]), binary.BigEndian.Uint64(at[16:]), binary.BigEndian.Uint64(at[24:])
	copy(m.Chain[:], at[32:])
	return m, turn, true
}

// ReadMark reads the mark in a file; there is false where there is none.
func ReadMark(path string) (m Mark, turn uint64, there bool, err error) {
	data, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) || errors.Is(err, syscall.ENOTDIR) || err == nil && len(data) == 0 {
		return m, 0, false, nil
	}
	if err != nil {
		return m, 0, false, fmt.Errorf("read the mark of what was kept last: %w", err)
	}
	first, turn1, ok1 := readSlot(data)
	second, turn2, ok2 := readSlot(data[min(len(data), slotSize):])
	switch {
	case ok1 && (!ok2 || turn1 > turn2):
		return first, turn1, true, nil
	case ok2:
		return second, turn2, true, nil
	}
	return m, 0, false, fmt.Errorf("%w: %s cannot be read, so that nobody can tell what the last is that was kept; put a good copy of the folder in its place, or restore the database into another folder with “sentier restore”", ErrDamaged, filepath.Base(path))
}

// OpenHead opens the file of the mark for writing, and makes it where it is missing.
func OpenHead(path string, m Mark, turn uint64) (*Head, error) {
	file, err := os.OpenFile(path, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the mark of what was kept last: %w", err)
	}
	h := &Head{file: file, turn: turn, mark: m}
	size, err := file.Seek(0, io.SeekEnd)
	if err == nil && size < 2*slotSize { // both slots are there from the beginning: later writes need no room on the disk
		if err = h.Write(m); err == nil {
			err = h.Write(m)
		}
		err = errors.Join(err, file.Sync())
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("write the mark of what was kept last: %w", err), file.Close())
	}
	return h, nil
}

// Write makes a mark the present one, and gives back when it is on the disk.
func (h *Head) Write(m Mark) error { return h.Update(func(now *Mark) { *now = m }) }

// Update changes the present Mark, and gives back when it is on the disk.
func (h *Head) Update(change func(m *Mark)) error {
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

// Again takes up a mark that another process has written.
func (h *Head) Again(m Mark, turn uint64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if turn > h.turn {
		h.turn, h.mark = turn, m
	}
}

// Read is the present mark.
func (h *Head) Read() Mark {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.mark
}

// Close closes the file.
func (h *Head) Close() error { return h.file.Close() }
