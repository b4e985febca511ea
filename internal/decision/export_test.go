package decision

// WithoutPairs is the policy as one with too many classes is compiled: by marks alone.
func (c *Compiled) WithoutPairs() *Compiled {
	large := *c
	large.pairs = pairs{}
	return &large
}
