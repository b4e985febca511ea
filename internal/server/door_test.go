package server

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"testing"
	"time"
)

// comesFrom is a connection of nobody, from an address.
type comesFrom struct {
	net.Conn
	addr   string
	closed bool
}

func (c *comesFrom) RemoteAddr() net.Addr {
	return net.TCPAddrFromAddrPort(netip.MustParseAddrPort(c.addr))
}
func (c *comesFrom) Close() error { c.closed = true; return nil }

// TestStrangersTakeNoRoomOfOthers: whoever says nothing goes for whoever comes, once they have had their time; those of one address, or of one network, go for their
// own; whoever has shown a good credential stays.
func TestStrangersTakeNoRoomOfOthers(t *testing.T) {
	t.Parallel()
	now := time.Now()
	d := newDoor(nil, true, func(a netip.Addr) bool { return a.String() == "10.0.0.1" })
	come := func(addr string, at time.Time) (g *guest, leaves *guest, ok bool) {
		g = &guest{Conn: &comesFrom{addr: addr}, at: d}
		leaves, ok = d.let(g, at)
		return g, leaves, ok
	}
	var first *guest
	for i := range mostOfAddress {
		g, leaves, ok := come(fmt.Sprintf("192.0.2.7:%d", 1000+i), now)
		if !ok || leaves != nil {
			t.Fatalf("the %dth of one address: %t", i, ok)
		}
		if first == nil {
			first = g
		}
	}
	if _, _, ok := come("192.0.2.7:9", now); ok {
		t.Error("one more than an address may have is let in, though nobody has had their time")
	}
	good, _, ok := come("192.0.2.8:9", now)
	if !ok {
		t.Fatal("another address of that network is not let in")
	}
	first.begin() // it asks something
	_, leaves, ok := come("192.0.2.7:9", now.Add(2*silentTime))
	if !ok || leaves == nil || leaves == first || leaves.RemoteAddr().String() != "192.0.2.7:1001" {
		t.Errorf("one more of that address takes the place of %v", leaves)
	}
	first.end()

	good.begin()
	shows(context.WithValue(t.Context(), guestKey{}, good), true)
	good.end()
	strangers := d.strangers
	for i := 0; d.strangers < mostStrangers; i++ {
		if _, _, ok := come(fmt.Sprintf("198.51.%d.1:9", i%250), now.Add(3*silentTime)); !ok && i > 5000 {
			t.Fatalf("of many networks only %d are let in", d.strangers-strangers)
		}
	}
	left := map[*guest]bool{}
	for i := range 500 {
		g, leaves, ok := come(fmt.Sprintf("203.0.%d.1:9", i%250), now.Add(9*silentTime))
		if !ok || leaves == nil || leaves == good || left[leaves] {
			t.Fatalf("the %dth that comes to a full house takes the place of %v, %t", i, leaves, ok)
		}
		left[leaves] = true
		if leaves.Close() != nil || !leaves.Conn.(*comesFrom).closed || g.left {
			t.Fatal("whoever leaves is counted twice, or whoever came")
		}
	}
	if good.Conn.(*comesFrom).closed || good.left {
		t.Error("whoever has shown a good credential has to leave")
	}
	for range mostOfNetwork { // a proxy brings many
		if _, _, ok := come("10.0.0.1:9", now.Add(20*silentTime)); !ok {
			t.Fatal("a proxy is kept out")
		}
	}
	shows(context.WithValue(t.Context(), guestKey{}, good), false)
	if d.strangers != mostStrangers+1 || d.each[netip.MustParsePrefix("192.0.2.8/32")] != 1 {
		t.Errorf("whose credential is good no more counts among %d strangers", d.strangers)
	}
}
