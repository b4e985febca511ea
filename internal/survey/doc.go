// Package survey answers what concerns many users and devices: reach, the matrix, what a change gives and takes, what records are used for,
// a week, advice, and all that is possible: now, later, or under a condition. It asks the kernel, the package decision, by classes of
// users and devices that no decision tells apart.
package survey

import "sentier/internal/decision"

// Survey asks a compiled policy about many. It holds nothing of its own, and serves any number of callers.
type Survey struct{ *decision.Compiled }

// Of makes a survey of a compiled policy.
func Of(c *decision.Compiled) Survey { return Survey{c} }
