package decision

import (
	"net/netip"
	"testing"

	"sentier/internal/policy"
)

// TestTheListDecidesAsTheDecision: the conditions that are written out for speed are those of the list, in every combination of what is asked for and what is known.
func TestTheListDecidesAsTheDecision(t *testing.T) {
	p, err := policy.FromRecords(&policy.Records{Sites: []policy.Site{{ID: "a", Name: "A"}, {ID: "b", Name: "B", Parent: "a"}}, Devices: []policy.Device{{ID: "gate", Site: "a"}}})
	if err != nil {
		t.Fatal(err)
	}
	c := Compile(p)
	yes, no := true, false
	met, all := 0, 0
	for _, networks := range [][]netip.Prefix{nil, {netip.MustParsePrefix("10.0.0.0/8")}} {
		for _, places := range [][]policy.SiteID{nil, {"a"}} {
			for _, states := range [][]policy.State{nil, {policy.Maintenance}} {
				for _, strong := range []*bool{nil, &yes, &no} {
					for _, attended := range []*bool{nil, &yes, &no} {
						for n := range 2 * 2 * 3 * 3 * 3 * 2 {
							l := &Line{Ifs: &policy.If{Networks: networks, Places: places, States: states, StrongSignIn: strong, Attended: attended}, Deny: n%2 == 0}
							a := &ResolvedQuery{What: &DeviceClass{Facts: c.Devices.Classes.At(0).Facts}}
							a.Context.StrongSignIn, a.Context.Attended = Tri(n/2%3), Tri(n/6%3)
							a.Context.IP = []netip.Addr{{}, netip.MustParseAddr("10.0.0.1"), netip.MustParseAddr("192.0.2.1")}[n/18%3]
							a.Context.Place = []policy.SiteID{"", "b"}[n/54%2]
							want := true
							for i := range Circumstances {
								want = want && Circumstances[i].Met(c, l, a)
							}
							if got := c.ConditionsMet(l, a); got != want {
								t.Fatalf("%+v in %+v: the decision says %t, the list %t", l.Ifs, a.Context, got, want)
							}
							all++
							if want {
								met++
							}
						}
					}
				}
			}
		}
	}
	if met < all/100 || met > all*99/100 {
		t.Errorf("%d of %d are met: they say little", met, all)
	}
}
