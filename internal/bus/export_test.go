package bus

import "context"

// LoseAnswer renews the lease, and lets the answer be lost.
func (l *Lease) LoseAnswer(ctx context.Context) error {
	_, err := l.bus.putLease(ctx, l.at, l.text)
	return err
}
