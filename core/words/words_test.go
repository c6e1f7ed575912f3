package words

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// parsed returns the Go files of the project's packages, tests apart.
func parsed(t *testing.T) (out []*ast.File) {
	t.Helper()
	names, err := filepath.Glob("../*/*.go")
	more, _ := filepath.Glob("../../internal/*/*.go")
	if names = append(names, more...); err != nil || len(names) < 100 {
		t.Fatalf("%v, %d files", err, len(names))
	}
	set := token.NewFileSet()
	for _, name := range names {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		f, err := parser.ParseFile(set, name, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		out = append(out, f)
	}
	return out
}

// TestEveryFactHasItsValues: each place that makes a fact gives a value for every placeholder of its row, and each row
// is used somewhere.
func TestEveryFactHasItsValues(t *testing.T) {
	files := parsed(t)
	rows, used := make(map[string]*Row), make(map[string]bool)
	for _, f := range files {
		if f.Name.Name != "words" {
			continue
		}
		ast.Inspect(f, func(n ast.Node) bool {
			spec, is := n.(*ast.ValueSpec)
			if !is || len(spec.Values) != 1 {
				return true
			}
			call, is := spec.Values[0].(*ast.CallExpr)
			if !is {
				return true
			}
			if make, is := call.Fun.(*ast.Ident); !is || make.Name != "row" && make.Name != "finding" {
				return true
			}
			var templates []string
			for _, a := range call.Args {
				text, err := strconv.Unquote(a.(*ast.BasicLit).Value)
				if err != nil {
					t.Fatal(err)
				}
				templates = append(templates, text)
			}
			rows[spec.Names[0].Name] = finding(templates...)
			return true
		})
	}
	for _, f := range files {
		ast.Inspect(f, func(n ast.Node) bool {
			if sel, is := n.(*ast.SelectorExpr); is {
				if pkg, is := sel.X.(*ast.Ident); is && pkg.Name == "words" {
					used[sel.Sel.Name] = true
				}
			}
			call, is := n.(*ast.CallExpr)
			if !is || call.Ellipsis.IsValid() {
				return true
			}
			with, is := call.Fun.(*ast.SelectorExpr)
			if !is || with.Sel.Name != "With" {
				return true
			}
			of, is := with.X.(*ast.SelectorExpr)
			if !is {
				return true
			}
			if pkg, is := of.X.(*ast.Ident); !is || pkg.Name != "words" {
				return true
			}
			if r := rows[of.Sel.Name]; r == nil {
				t.Errorf("no row %s", of.Sel.Name)
			} else if len(call.Args) != len(r.names) {
				t.Errorf("%s has the values %v, and a place gives it %d", of.Sel.Name, r.names, len(call.Args))
			}
			return true
		})
	}
	if len(rows) < 150 {
		t.Errorf("%d rows", len(rows))
	}
	for name := range rows {
		if !used[name] && name != "said" {
			t.Errorf("nothing says %s", name)
		}
	}
}

// TestSentences: values print as their types do; what may be left out is.
func TestSentences(t *testing.T) {
	at := policy.Place{File: "a.yaml", Line: 1200, Column: 3}
	for _, c := range []struct {
		fact Fact
		want string
	}{
		{row("{rate} and {rate!}").With(unit.Rate(11_400_000)), "11.4 Mbit/s and 11.4Mbit/s"},
		{row("{n|packet} {n|was|were} lost").With(int64(1)), "1 packet was lost"},
		{row("{n|packet} {n|was|were} lost").With(int64(2000)), "2,000 packets were lost"},
		{row("{size}, {size!}").With(unit.Size(1500)), "1,500 B, 1.5kB"},
		{row("{wait}, {wait!}").With(1500 * time.Microsecond), "1.50 ms, 1.5ms"},
		{row("{n|packet}, {n}").With(1), "1 packet, 1"},
		{row("{n|packet}").With(uint64(12345)), "12,345 packets"},
		{row("{at}, line {at!}").With(at), "a.yaml:1200, line 1200"},
		{row("{list}; {list,}; {list;}").With([]string{"a", "b", "c"}), "a, b and c; a, b, c; a; b; c"},
		{row("{facts}").With([]Fact{row("{x}").With(Part(0.25)), row("two").With()}), "25.0 % and two"},
		{row("a {{brace}, [one]").With(), "a {brace}, [one]"},
		{row("it[[ at {where}]][[ and {more} more]]").With("here", 0), "it at here"},
		{row("it[[ at {where}]]").With(""), "it"},
		{row("it[[ {fact}]]").With(Fact{}), "it"},
		{row("it[[ ({at})]]").With(policy.Place{}), "it"},
		{row("{a} {b}").With("x"), "x {b}"},
		{Fact{}, ""},
	} {
		if got := c.fact.String(); got != c.want {
			t.Errorf("%q; want %q", got, c.want)
		}
	}
	f := finding("{name} is wrong", "{rate} is lost", "write {name}").With("x", unit.Rate(1000))
	if f.String() != "x is wrong" || f.Consequence() != "1.00 kbit/s is lost" || f.Fix() != "write x" || f.Values()["name"] != "x" {
		t.Errorf("%q, %q, %q, %v", f, f.Consequence(), f.Fix(), f.Values())
	}
}

// TestSameWhereverItIs: the lines of a file make no difference, and neither does what only the consequence says.
func TestSameWhereverItIs(t *testing.T) {
	r := finding("{name} in line {at!}[[, {in}]]", "{rate} is lost")
	inner := row("within {at!}")
	a := r.With("x", policy.Place{Line: 1}, inner.With(policy.Place{Line: 1}), unit.Rate(1))
	for _, c := range []struct {
		b    Fact
		same bool
	}{
		{r.With("x", policy.Place{Line: 9}, inner.With(policy.Place{Line: 8}), unit.Rate(2)), true},
		{r.With("y", policy.Place{Line: 1}, inner.With(policy.Place{Line: 1}), unit.Rate(1)), false},
		{r.With("x", policy.Place{Line: 1}, Fact{}, unit.Rate(1)), false},
		{row("other").With(), false},
	} {
		if a.Same(c.b) != c.same {
			t.Errorf("%q and %q: same %v", a, c.b, !c.same)
		}
	}
	var back Fact
	if text, err := a.MarshalText(); err != nil || back.UnmarshalText(text) != nil || back.String() != a.String() {
		t.Errorf("%q comes back as %q", a, back)
	}
}
