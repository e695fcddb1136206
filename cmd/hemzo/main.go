// Command hemzo gives test suites real databases.
package main

import (
	"os"

	"hemzo/internal/cli"
)

// Set by the linker.
var (
	version = "dev"
	commit  = "unknown"
)

func main() {
	os.Exit(cli.Main(os.Args[1:], cli.Build{Version: version, Commit: commit}))
}
