package wire

import (
	"net/netip"

	"sentier/internal/policy"
)

// TypeMappings calls add for every type that travels otherwise than its Go type says, with a value of
// the type that describes it.
func TypeMappings(add func(of, as any)) {
	add(policy.Switch(0), true)
	add(policy.Clock(0), "")
	add(policy.Date{}, "")
	add(policy.MonthDay{}, "")
	add(policy.Weekday(0), "")
	add(netip.Prefix{}, "")
	add(policy.Limit{}, new(any))
	add(policy.Member{}, new(any))
	add(policy.Change{}, Edit{})
}
