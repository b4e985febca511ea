package replica

import "time"

// Beat is the writer's word, each moment, of how far the log goes: whoever has it knows how old what they have is.
type Beat struct {
	Epoch  uint64    `json:"epoch"`
	Count  uint64    `json:"count"` // from 1 in each epoch: an older one is known by it, also where the writer's clock was set back
	Seq    uint64    `json:"seq"`
	Number uint64    `json:"revision"`
	Chain  []byte    `json:"chain"`
	At     time.Time `json:"at"`
	Writer
}

// SignBeat is a beat as it travels.
func (s *Signer) SignBeat(b Beat) ([]byte, error) { return s.sign(typeBeat, b) }

// Beat reads a beat. The error is a [*ForgedError] where no key that is trusted has signed it.
func (k Keys) Beat(text []byte) (b Beat, err error) { return b, k.open(typeBeat, text, &b) }
