package decision

import "encoding/binary"

// classKey writes what tells one class from another.
type classKey []byte

func (k *classKey) number(n int64) { *k = binary.AppendVarint(*k, n) }

func (k *classKey) text(s string) {
	*k = binary.AppendUvarint(*k, uint64(len(s)))
	*k = append(*k, s...)
}

func (k *classKey) period(p period) {
	k.number(int64(p.from))
	k.number(int64(p.until))
}
