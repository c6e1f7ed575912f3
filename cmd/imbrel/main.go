// Command imbrel classifies traffic, says what every class is promised, and
// rehearses a policy packet by packet under congestion.
package main

import (
	"os"

	"imbrel.example/imbrel/internal/cli"
)

func main() { os.Exit(cli.Main(os.Args[1:], os.Stdin, os.Stdout, os.Stderr)) }
