// Command magpie keeps the configurations of network devices and puts them
// back: service and command line in one.
package main

import (
	"os"

	"magpie/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args)) }
