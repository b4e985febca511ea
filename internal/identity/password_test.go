package identity

import (
	"errors"
	"fmt"
	"testing"
	"time"
)

// tries counts how many tries are let through in a row.
func tries(l *loginLimiter, n int, user func(i int) string, address func(i int) string, known bool) (through int) {
	for i := range n {
		if _, err := l.try(user(i), address(i), known); err == nil {
			through++
		}
	}
	return through
}

func always(text string) func(int) string { return func(int) string { return text } }
func numbered(format string) func(i int) string {
	return func(i int) string { return fmt.Sprintf(format, i) }
}

// TestGuessesAreBoundedByAccountAndByAddress: neither many names from one address nor many addresses at one name give more, and names that are
// made up empty nothing.
func TestGuessesAreBoundedByAccountAndByAddress(t *testing.T) {
	for name, c := range map[string]struct {
		user, address func(int) string
		most          int
	}{
		"one name from one address":      {always("ana"), always("192.0.2.1"), triesAtOnce},
		"one name from many addresses":   {always("ana"), numbered("192.0.2.%d"), triesAtOnce},
		"many names from one address":    {numbered("ana.%d"), always("192.0.2.1"), triesAtOnce},
		"one network of IPv6":            {numbered("ana.%d"), numbered("2001:db8:0:1::%d"), triesAtOnce},
		"a mapped address is the mapped": {numbered("ana.%d"), func(i int) string { return []string{"192.0.2.1", "::ffff:192.0.2.1"}[i%2] }, triesAtOnce},
		"two networks of IPv6":           {numbered("ana.%d"), func(i int) string { return fmt.Sprintf("2001:db8:0:%d::1", i%2) }, 2 * triesAtOnce},
	} {
		if got := tries(newLimiter(), 200, c.user, c.address, false); got < c.most-1 || got > c.most+1 {
			t.Errorf("%s: %d of 200 tries are let through, want %d", name, got, c.most)
		}
	}
	l := newLimiter()
	tries(l, triesAtOnce, always("ana"), numbered("192.0.2.%d"), false)
	tries(l, 20_000, numbered("made.up.%d"), numbered("2001:db8:%x::1"), false)
	if got := tries(l, 10, always("ana"), numbered("198.51.100.%d"), false); got != 0 {
		t.Errorf("after 20,000 names that were made up, %d fresh guesses at one account", got)
	}
	if l.accounts.list == nil || len(l.accounts.list) != bucketCount || len(l.addresses.list) != bucketCount {
		t.Error("what is counted has grown")
	}
}

// TestOthersDoNotLockTheOwnerOut: where an account has been signed in before, its owner still comes in while somebody guesses elsewhere; and even
// there guesses are bounded.
func TestOthersDoNotLockTheOwnerOut(t *testing.T) {
	l := newLimiter()
	tries(l, 100, always("ana"), numbered("198.51.100.%d"), false)
	if _, err := l.try("ana", "192.0.2.1", true); err != nil {
		t.Errorf("from where she always signs in: %v", err)
	}
	if got := tries(l, 100, always("ana"), always("192.0.2.1"), true); got > triesAtOnce {
		t.Errorf("%d guesses from a known place", got)
	}
}

// TestWaitingIsToldAsItIs: after the time that is told there is one more try, and not before.
func TestWaitingIsToldAsItIs(t *testing.T) {
	b := newBuckets()
	for i := range triesAtOnce {
		if wait := b.take(7); wait != 0 {
			t.Fatalf("try %d waits for %v", i, wait)
		}
	}
	wait := b.take(7)
	if wait <= 0 || wait > tryAgain {
		t.Fatalf("told to wait for %v", wait)
	}
	b.from = b.from.Add(-wait + 50*time.Millisecond) // the time passes
	if b.take(7) == 0 {
		t.Error("a try before its time")
	}
	b.from = b.from.Add(-100 * time.Millisecond)
	if again := b.take(7); again != 0 {
		t.Errorf("after the time that was told: %v more", again)
	}
	b.giveBack(7)
	if b.take(7) != 0 {
		t.Error("a try that was given back is gone")
	}
	if b.take(8) != 0 {
		t.Error("another key is slowed down")
	}
}

// TestASignInThatSucceedsCostsNothing.
func TestASignInThatSucceedsCostsNothing(t *testing.T) {
	l := newLimiter()
	for i := range 50 {
		try, err := l.try("ana", "192.0.2.1", false)
		if err != nil {
			t.Fatalf("sign-in %d: %v", i, err)
		}
		try.giveBack()
		try.giveBack() // twice is once
	}
	var many *TooManyError
	for range triesAtOnce {
		l.try("ana", "192.0.2.1", false)
	}
	if _, err := l.try("ana", "192.0.2.1", false); !errors.As(err, &many) || many.After <= 0 {
		t.Errorf("after as many wrong tries as there are: %v", err)
	}
}

// TestPasswordsAreKeptAsHashes reads what is written, in every way in which it could be damaged.
func TestPasswordsAreKeptAsHashes(t *testing.T) {
	h := newHasher()
	hash, err := h.hash(t.Context(), "ana", "towpath and heron")
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]bool{"towpath and heron": true, "towpath and heron ": false, "": false, "Towpath and heron": false} {
		if ok, err := h.matches(t.Context(), text, hash); ok != want || err != nil {
			t.Errorf("%q: %v %v, want %v", text, ok, err, want)
		}
	}
	other, err := h.hash(t.Context(), "ana", "towpath and heron")
	if err != nil || other == hash {
		t.Errorf("the same password has the same hash (%v)", err)
	}
	for _, bad := range []string{"", "x", hash[:len(hash)/2], hash + "$", "$argon2id$v=19$m=x,t=2,p=1$c2FsdA$aGFzaA"} {
		if ok, err := h.matches(t.Context(), "towpath and heron", bad); ok || bad != "" && err == nil && ok {
			t.Errorf("a damaged hash %q matches (%v)", bad, err)
		}
	}
}
