// Package acceptance holds the tests that meet the program as its users do: the real service on loopback,
// asked by its command line, over plain HTTP and through its console in a real browser.
package acceptance
