// Command imbrel classifies traffic, says what every class is promised, and
// rehearses a policy packet by packet under congestion.
package main

import (
	"errors"
	"io"
	"os"

	"imbrel.example/imbrel/internal/cli"
)

func main() {
	out := io.Writer(os.Stdout)
	if wasClosed(1) && !wasClosed(0) { // a service that has no use for either has both from /dev/null
		out = closed{}
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdin, out, os.Stderr))
}

// closed is a standard output that there is not.
type closed struct{}

func (closed) Write([]byte) (int, error) { return 0, errors.New("standard output is closed") }
