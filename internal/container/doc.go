// Package container holds what a compiled policy is made of: values that never change, of which a changed one shares all but what was
// changed. So a change of one among a million costs microseconds, and whoever reads the one before sees it as it was.
package container
