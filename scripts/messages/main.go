// Messages lists every sentence, heading and help text of the program, one a line with its place, for reading aloud.
//
//	go run ./scripts/messages [-random 100] [-seed 1]
package main

import (
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
)

// A message is a text of the program, and where it is written.
type message struct {
	at   token.Position
	text string
}

// sentence is what a text for people has: two words.
var sentence = regexp.MustCompile(`[A-Za-z]{2,}[,;:]? +[A-Za-z{%` + "`" + `]`)

func main() {
	random := flag.Int("random", 0, "print only so many, drawn at random")
	seed := flag.Uint64("seed", 1, "of the draw")
	flag.Parse()
	all, err := collect(".")
	if err != nil {
		fmt.Fprintln(os.Stderr, "messages:", err)
		os.Exit(1)
	}
	if *random > 0 {
		rand.New(rand.NewPCG(*seed, 24)).Shuffle(len(all), func(i, j int) { all[i], all[j] = all[j], all[i] })
		all = all[:min(*random, len(all))]
	}
	for _, m := range all {
		fmt.Printf("%s:%d: %s\n", m.at.Filename, m.at.Line, strings.Join(strings.Fields(m.text), " "))
	}
}

// collect returns the texts of all packages, each once.
func collect(root string) (all []message, err error) {
	seen := make(map[string]bool)
	for _, part := range []string{"core", "internal", "examples"} {
		err = filepath.WalkDir(filepath.Join(root, part), func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			set := token.NewFileSet()
			f, err := parser.ParseFile(set, path, nil, 0)
			if err != nil {
				return err
			}
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.ImportSpec, *ast.Field: // paths and tags
					return false
				case *ast.BasicLit:
					text, err := strconv.Unquote(n.Value)
					if n.Kind == token.STRING && err == nil && sentence.MatchString(text) && !seen[text] {
						seen[text] = true
						all = append(all, message{set.Position(n.Pos()), text})
					}
				}
				return true
			})
			return nil
		})
		if err != nil {
			return nil, err
		}
	}
	return all, nil
}
