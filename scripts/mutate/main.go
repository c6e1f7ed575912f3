// Mutate changes the program a little, runs the tests of the package, and tells which changes no test noticed.
//
//	go run ./scripts/mutate [-n 300] [-seed 1] [-whole] [-again FILE] [PACKAGE...]
//
// It works in a copy of the checkout. Changes are drawn among operators, constants, conditions and statements.
package main

import (
	"bytes"
	"context"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"
)

// A mutant is one change of one file.
type mutant struct {
	pkg, file string
	line      int
	from, to  int // offsets
	text      string
	was       string
}

func (m mutant) String() string {
	return fmt.Sprintf("%s:%d: %q becomes %q", m.file, m.line, m.was, m.text)
}

var heart = []string{"meter", "queue", "schedule", "plan", "datapath", "classify", "measure", "tcp", "check", "gate"}

// operators are what each operator becomes.
var operators = map[token.Token]string{
	token.LSS: "<=", token.LEQ: "<", token.GTR: ">=", token.GEQ: ">", token.EQL: "!=", token.NEQ: "==",
	token.ADD: "-", token.SUB: "+", token.MUL: "/", token.QUO: "*", token.LAND: "||", token.LOR: "&&",
	token.SHL: ">>", token.SHR: "<<", token.AND: "|", token.OR: "&",
	token.ADD_ASSIGN: "-=", token.SUB_ASSIGN: "+=", token.INC: "--", token.DEC: "++",
}

func main() {
	n := flag.Int("n", 300, "mutants; 0: all")
	seed := flag.Uint64("seed", 1, "of the draw")
	again := flag.String("again", "", "try those alone that a file names: an earlier output")
	whole := flag.Bool("whole", false, "run the whole suite on what the package's own tests let live")
	workers := flag.Int("workers", 2, "tests at once")
	flag.Parse()
	packages := flag.Args()
	if len(packages) == 0 {
		for _, p := range heart {
			packages = append(packages, "core/"+p)
		}
	}
	var known []byte
	if *again != "" {
		var err error
		if known, err = os.ReadFile(*again); err != nil {
			panic(err)
		}
	}
	all, limits := make(map[string][]mutant), make(map[string]time.Duration)
	for _, p := range packages {
		limits[p] = unchanged(p)
		all[p] = mutants(p)
		if known != nil {
			all[p] = slices.DeleteFunc(all[p], func(m mutant) bool { return !bytes.Contains(known, []byte(m.String()+"\n")) })
		}
	}
	r := rand.New(rand.NewPCG(*seed, 0))
	var drawn []mutant
	for i := 0; (*n == 0 || len(drawn) < *n) && len(packages) > 0; i++ { // as many of each package
		p := packages[i%len(packages)]
		if len(all[p]) == 0 {
			packages = slices.DeleteFunc(packages, func(q string) bool { return q == p })
			continue
		}
		k := r.IntN(len(all[p]))
		drawn = append(drawn, all[p][k])
		all[p] = slices.Delete(all[p], k, k+1)
	}
	var wait sync.WaitGroup
	var lock sync.Mutex
	counts := make(map[string]int)
	next := 0
	for range *workers {
		wait.Add(1)
		go func() {
			defer wait.Done()
			dir := checkout()
			defer os.RemoveAll(dir)
			for {
				lock.Lock()
				i := next
				next++
				lock.Unlock()
				if i >= len(drawn) {
					return
				}
				m := drawn[i]
				said := try(dir, m, "./"+m.pkg, limits[m.pkg])
				if said == "lives" && *whole {
					if said = try(dir, m, "./...", 400*time.Second); said == "killed" {
						said = "killed by others"
					}
				}
				lock.Lock()
				counts[said]++
				if said != "killed" && said != "not Go" {
					fmt.Printf("%s: %s\n", said, m)
				}
				lock.Unlock()
			}
		}()
	}
	wait.Wait()
	fmt.Println(len(drawn), "mutants:", counts)
}

// unchanged runs the tests of a package without a change, and returns a limit of time for those with one.
func unchanged(pkg string) time.Duration {
	began := time.Now()
	if out, err := exec.Command("go", "test", "-short", "-count=1", "./"+pkg).CombinedOutput(); err != nil {
		panic(string(out))
	}
	return 10*time.Second + 5*time.Since(began)
}

// try tests a mutant.
func try(dir string, m mutant, what string, limit time.Duration) string {
	path := filepath.Join(dir, m.file)
	source, err := os.ReadFile(path)
	if err != nil {
		panic(err)
	}
	defer os.WriteFile(path, source, 0o644)
	if err := os.WriteFile(path, slices.Concat(source[:m.from], []byte(m.text), source[m.to:]), 0o644); err != nil {
		panic(err)
	}
	within, done := context.WithTimeout(context.Background(), 10*time.Minute)
	defer done()
	run := func(dir, name string, args ...string) error {
		c := exec.CommandContext(within, name, args...)
		c.Dir, c.WaitDelay = dir, time.Second
		return c.Run()
	}
	var failed error
	if tests := filepath.Join(dir, "own.test"); what != "./..." {
		if run(dir, "go", "test", "-c", "-o", tests, what) != nil {
			return "not Go"
		}
		failed = run(filepath.Join(dir, m.pkg), tests, "-test.short", "-test.failfast", "-test.timeout="+limit.String())
	} else {
		failed = run(dir, "go", "test", "-short", "-failfast", "-timeout="+limit.String(), what)
	}
	if failed != nil {
		return "killed"
	}
	return "lives"
}

// checkout copies what git knows of the checkout.
func checkout() string {
	dir, err := os.MkdirTemp("", "mutate")
	if err != nil {
		panic(err)
	}
	copied := exec.Command("sh", "-c", `git ls-files -z | xargs -0 cp --parents -t "$0"`, dir)
	if out, err := copied.CombinedOutput(); err != nil {
		panic(string(out))
	}
	return dir
}

// mutants lists the changes that can be made to a package.
func mutants(pkg string) (all []mutant) {
	files, _ := filepath.Glob(filepath.Join(pkg, "*.go"))
	for _, name := range files {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		source, err := os.ReadFile(name)
		if err != nil {
			panic(err)
		}
		set := token.NewFileSet()
		file, err := parser.ParseFile(set, name, source, 0)
		if err != nil {
			panic(err)
		}
		at := func(p token.Pos) int { return set.Position(p).Offset }
		add := func(from, to token.Pos, text string) {
			m := mutant{pkg: pkg, file: name, line: set.Position(from).Line, from: at(from), to: at(to), text: text}
			m.was = string(source[m.from:m.to])
			all = append(all, m)
		}
		ast.Inspect(file, func(n ast.Node) bool {
			operator := func(pos token.Pos, t token.Token) {
				if to, ok := operators[t]; ok {
					add(pos, pos+token.Pos(len(t.String())), to)
				}
			}
			switch n := n.(type) {
			case *ast.GenDecl:
				return n.Tok == token.VAR || n.Tok == token.CONST && !bytes.Contains(source[at(n.Pos()):at(n.End())], []byte("iota"))
			case *ast.BinaryExpr:
				operator(n.OpPos, n.Op)
			case *ast.IncDecStmt:
				operator(n.TokPos, n.Tok)
			case *ast.AssignStmt:
				operator(n.TokPos, n.Tok)
				if n.Tok != token.DEFINE { // dropped
					var kept []string
					for _, v := range n.Rhs {
						kept = append(kept, string(source[at(v.Pos()):at(v.End())]))
					}
					add(n.Pos(), n.End(), strings.TrimSuffix(strings.Repeat("_, ", len(kept)), ", ")+" = "+strings.Join(kept, ", "))
				}
			case *ast.ExprStmt:
				add(n.Pos(), n.End(), "")
			case *ast.IfStmt:
				cond := string(source[at(n.Cond.Pos()):at(n.Cond.End())])
				add(n.Cond.Pos(), n.Cond.End(), "!("+cond+")")
				add(n.Cond.Pos(), n.Cond.End(), "false && ("+cond+")")
			case *ast.BasicLit:
				if v, err := strconv.ParseInt(n.Value, 0, 64); n.Kind == token.INT && err == nil {
					add(n.Pos(), n.End(), strconv.FormatInt(v+1, 10))
				}
			case *ast.Ident:
				if n.Name == "true" || n.Name == "false" {
					add(n.Pos(), n.End(), strconv.FormatBool(n.Name == "false"))
				}
			}
			return true
		})
	}
	return all
}
