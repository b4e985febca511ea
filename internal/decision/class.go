package decision

import "encoding/binary"

// ClassKey writes what tells one class from another.
type ClassKey []byte

// Number adds a number to the key.
func (k *ClassKey) Number(n int64) { *k = binary.AppendVarint(*k, n) }

// Text adds a text to the key.
func (k *ClassKey) Text(s string) {
	*k = binary.AppendUvarint(*k, uint64(len(s)))
	*k = append(*k, s...)
}

// Period adds a period to the key.
func (k *ClassKey) Period(p Period) {
	k.Number(int64(p.From))
	k.Number(int64(p.Until))
}
