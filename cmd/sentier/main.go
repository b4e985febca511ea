// Sentier decides who may view and control which device, and when.
package main

import (
	"os"

	"sentier/internal/cli"
	"sentier/web"
)

// Set by the linker; see the Makefile.
var version, commit = "0.1.0-dev", "unknown"

func main() {
	os.Exit(cli.Program{
		In: os.Stdin, Out: os.Stdout, Err: os.Stderr,
		Console: web.Console(), Version: version, Commit: commit,
	}.Run(os.Args[1:]))
}
