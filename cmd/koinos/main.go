// Command koinos is the service, its console and its client in one program.
package main

import (
	"os"

	"koinos/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
