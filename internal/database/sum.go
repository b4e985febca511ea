package database

import (
	"crypto/sha256"
	"encoding/binary"
)

// Sum is a hash over a set of rows that is kept up to date row by row: the sum of their hashes, in four lanes.
type Sum [4]uint64

// Add adds the hash of a row.
func (s *Sum) Add(row [sha256.Size]byte) {
	for i := range s {
		s[i] += binary.BigEndian.Uint64(row[8*i:])
	}
}

// Take takes the hash of a row away.
func (s *Sum) Take(row [sha256.Size]byte) {
	for i := range s {
		s[i] -= binary.BigEndian.Uint64(row[8*i:])
	}
}

// Join adds the rows of another set.
func (s *Sum) Join(o Sum) {
	for i := range s {
		s[i] += o[i]
	}
}

// SumOf reads a sum as [Sum.Bytes] writes it.
func SumOf(b []byte) (out Sum) {
	for i := range out {
		out[i] = binary.BigEndian.Uint64(b[8*i:])
	}
	return out
}

// Bytes is how it is written.
func (s Sum) Bytes() []byte {
	out := make([]byte, 0, sha256.Size)
	for _, lane := range s {
		out = binary.BigEndian.AppendUint64(out, lane)
	}
	return out
}

// RowHash is the hash of a row: its texts, each with its length before it.
func RowHash(texts ...string) [sha256.Size]byte {
	var room [1024]byte
	out := room[:0]
	for _, t := range texts {
		out = binary.BigEndian.AppendUint32(out, uint32(len(t)))
		out = append(out, t...)
	}
	return sha256.Sum256(out)
}
