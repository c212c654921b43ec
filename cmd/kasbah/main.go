// Command kasbah keeps cloud resources as code.
package main

import (
	"os"

	"kasbah/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
