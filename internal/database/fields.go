package database

import (
	"bufio"
	"encoding/binary"
	"io"
)

// FieldWriter writes fields so that no two lists of fields are the same bytes: each with its length before it.
type FieldWriter struct{ *bufio.Writer }

// NewFieldWriter writes to w, through a buffer: what was written is there after Flush, which tells of errors.
func NewFieldWriter(w io.Writer) FieldWriter { return FieldWriter{bufio.NewWriter(w)} }

// Number writes a number.
func (w FieldWriter) Number(n uint64) {
	var b [8]byte
	binary.BigEndian.PutUint64(b[:], n)
	w.Write(b[:]) // the error is that of Flush
}

// Bytes writes bytes.
func (w FieldWriter) Bytes(b []byte) {
	w.Number(uint64(len(b)))
	w.Write(b)
}

// Text writes a text.
func (w FieldWriter) Text(s string) {
	w.Number(uint64(len(s)))
	w.WriteString(s)
}

// Maybe writes a text that may be missing, which is another thing than an empty one.
func (w FieldWriter) Maybe(s *string) {
	if s == nil {
		w.Number(0)
		return
	}
	w.Number(1)
	w.Text(*s)
}

// AppendNumber appends a number as [FieldWriter.Number] writes it.
func AppendNumber(b []byte, n uint64) []byte { return binary.BigEndian.AppendUint64(b, n) }

// AppendText appends a text as [FieldWriter.Text] writes it.
func AppendText(b []byte, s string) []byte { return append(AppendNumber(b, uint64(len(s))), s...) }
