package cli

import (
	"io"
	"path/filepath"
	"strings"
	"testing"
)

// BenchmarkMain is what most people do most, in one process: the compiler's
// profile is taken from it and from the data path's benchmarks.
func BenchmarkMain(b *testing.B) {
	dir := b.TempDir()
	run := func(args ...string) {
		var errors strings.Builder
		if status := Main(args, strings.NewReader(""), io.Discard, &errors); status > 1 {
			b.Fatalf("imbrel %s: exit %d\n%s", strings.Join(args, " "), status, errors.String())
		}
	}
	run("demo", "--write", filepath.Join(dir, "tern"))
	demo := filepath.Join(dir, "tern", "ternrock.yaml")
	for b.Loop() {
		run("rehearse", demo, "--both")
		for range 20 {
			run("explain", demo, "--capture", filepath.Join(dir, "tern", "ternrock-office.pcap"))
		}
	}
}
