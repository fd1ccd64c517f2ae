// Command proudsieve is the service, its command line, and the core on its own.
package main

import (
	"os"

	"proudsieve/cli"
)

func main() { os.Exit(cli.Run(os.Args, os.Stdout, os.Stderr)) }
