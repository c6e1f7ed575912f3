package yang_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/yang"
)

// parts returns the configurations of all nodes of all examples.
func parts(t testing.TB) (trees []*yang.Element) {
	t.Helper()
	form := language.DeviceForm()
	names, _ := filepath.Glob("../../examples/*.yaml")
	more, _ := filepath.Glob("../../examples/cookbook/*.yaml")
	for _, name := range append(names, more...) {
		root, err := os.OpenRoot(filepath.Dir(name))
		if err != nil {
			t.Fatal(err)
		}
		f, source, err := policyfile.ReadOpened(root.FS().Open, filepath.Base(name), nil)
		root.Close()
		if err != nil {
			continue
		}
		for i := range f.Network.Nodes {
			part := source.Part(f, &f.Network.Nodes[i])
			trees = append(trees, yang.Tree(form, &part).In(yang.Namespace))
		}
	}
	if len(trees) < 30 {
		t.Fatalf("only %d configurations", len(trees))
	}
	return trees
}

// equal reports whether two configurations are the same; the order of single values makes no difference.
func equal(a, b *yang.Element) bool {
	return yang.Difference(language.DeviceForm(), a, b) == nil && yang.Difference(language.DeviceForm(), b, a) == nil
}

// An edit that is the difference of two configurations makes one of the other, whatever the two are; and what it deletes, adds and moves is
// no more than differs.
func TestDifferenceMakesTheOther(t *testing.T) {
	form := language.DeviceForm()
	trees := parts(t)
	random := rand.New(rand.NewPCG(1, 2))
	for range 400 {
		from := trees[random.IntN(len(trees))]
		to := trees[random.IntN(len(trees))]
		if random.IntN(2) == 0 {
			to = shuffled(random, from)
		}
		edit := yang.Difference(form, from, to)
		if edit == nil {
			if from.String() != to.String() && !equal(from, to) {
				t.Fatalf("no difference between\n%s\nand\n%s", from, to)
			}
			continue
		}
		edit, err := yang.Parse(edit.Append(nil, "", ""))
		if err != nil {
			t.Fatal(err)
		}
		got, err := yang.Edit(form, from, edit, "merge")
		if err != nil {
			t.Fatalf("%v\n%s", err, edit)
		}
		if !equal(got, to) {
			t.Fatalf("%s\nmakes\n%s\nnot\n%s", edit, got, to)
		}
	}
	if yang.Difference(form, trees[0], trees[0].Clone()) != nil {
		t.Error("a configuration differs from itself")
	}
}

// shuffled returns a configuration with some elements removed, moved and changed.
func shuffled(random *rand.Rand, e *yang.Element) *yang.Element {
	out := e.Clone()
	var walk func(e *yang.Element)
	walk = func(e *yang.Element) {
		switch random.IntN(6) {
		case 0:
			if n := len(e.Inner); n > 1 && e.Inner[n-1].Name == e.Inner[n-2].Name {
				e.Inner[n-1], e.Inner[n-2] = e.Inner[n-2], e.Inner[n-1]
			}
		case 1:
			if n := len(e.Inner); n > 1 && e.Inner[n-1].Name == e.Inner[n-2].Name {
				e.Inner = slices.Delete(e.Inner, n-2, n-1)
			}
		case 2:
			for _, k := range e.Inner {
				if len(k.Inner) == 0 && (k.Name == "rate" || k.Name == "at-least" || k.Name == "value") {
					k.Text = fmt.Sprintf("%dkbit/s", 1+random.IntN(100))
				}
			}
		}
		for _, k := range e.Inner {
			walk(k)
		}
	}
	walk(out)
	return out
}

// The operations of RFC 6241 §7.2, with what is there and what is not.
func TestOperations(t *testing.T) {
	form := language.DeviceForm()
	const begin = `<policy-file><imbrel>1</imbrel><policies><name>wan</name><treat><id>voice</id><class>voice</class><mark><value>ef</value></mark></treat><treat><id>rest</id><class>rest</class></treat></policies></policy-file>`
	for _, c := range []struct{ edit, otherwise, want, tag string }{
		{`<policies><name>wan</name><shape><value>1Mbit/s</value></shape></policies>`, "merge", `<name>wan</name><treat><id>voice</id><class>voice</class><mark><value>ef</value></mark></treat><treat><id>rest</id><class>rest</class></treat><shape><value>1Mbit/s</value></shape>`, ""},
		{`<policies op="replace"><name>wan</name></policies>`, "merge", `<policies><name>wan</name></policies>`, ""},
		{`<policies op="create"><name>wan</name></policies>`, "merge", "", "data-exists"},
		{`<policies op="create"><name>lan</name></policies>`, "merge", `<policies><name>lan</name></policies>`, ""},
		{`<policies op="delete"><name>lan</name></policies>`, "merge", "", "data-missing"},
		{`<policies op="remove"><name>lan</name></policies>`, "merge", begin, ""},
		{`<policies op="delete"><name>wan</name></policies>`, "merge", `<policy-file><imbrel>1</imbrel></policy-file>`, ""},
		{`<policies><name>wan</name><treat><id>voice</id><mark><dscp>cs5</dscp></mark></treat></policies>`, "merge", `<class>voice</class><mark><dscp>cs5</dscp></mark></treat>`, ""},
		{`<policies><name>wan</name><treat in:insert="first"><id>rest</id></treat></policies>`, "merge", `<treat><id>rest</id><class>rest</class></treat><treat><id>voice</id>`, ""},
		{`<policies><name>wan</name><treat in:insert="after" in:key="[id='rest']"><id>voice</id></treat></policies>`, "merge", `<treat><id>rest</id><class>rest</class></treat><treat><id>voice</id>`, ""},
		{`<policies><name>wan</name><treat in:insert="after" in:key="[id='none']"><id>voice</id></treat></policies>`, "merge", "", "bad-attribute"},
		{`<policies><name>wan</name><treat><id>rest</id><priority op="merge">2</priority></treat></policies>`, "none", `<id>rest</id><class>rest</class><priority>2</priority>`, ""},
		{`<policies><name>lan</name></policies>`, "none", "", "data-missing"},
		{`<policies><shape><value>1Mbit/s</value></shape></policies>`, "merge", "", "missing-element"},
		{`<policies><name>wan</name><shape>1Mbit/s</shape></policies>`, "merge", "", "invalid-value"},
		{`<polices/>`, "merge", "", "unknown-element"},
		{`<policies op="destroy"><name>wan</name></policies>`, "merge", "", "bad-attribute"},
	} {
		config, _ := yang.Parse([]byte(begin))
		edit, err := yang.Parse([]byte(`<config xmlns:nc="` + yang.Base + `" xmlns:in="urn:ietf:params:xml:ns:yang:1"><policy-file>` + strings.ReplaceAll(c.edit, ` op="`, ` nc:operation="`) + `</policy-file></config>`))
		if err != nil {
			t.Fatal(err)
		}
		got, err := yang.Edit(form, config, edit, c.otherwise)
		var e *yang.Error
		switch {
		case errors.As(err, &e) && e.Tag == c.tag:
		case err != nil || c.tag != "":
			t.Errorf("%s: %v, want %q", c.edit, err, c.tag)
		case !strings.Contains(string(got.Append(nil, "", "")), c.want):
			t.Errorf("%s: %s, want %s", c.edit, got.Append(nil, "", ""), c.want)
		}
		if again := string(config.Append(nil, "", "")); again != begin {
			t.Errorf("%s changed the configuration that it edits: %s", c.edit, again)
		}
	}
}

// What the trees of the examples are is valid by the module, for somebody else's validator.
func TestTreesAreValid(t *testing.T) {
	lint, err := exec.LookPath("yanglint")
	if err != nil {
		t.Skip("no yanglint here: install libyang2-tools")
	}
	dir := t.TempDir()
	module := filepath.Join(dir, yang.Module+"@"+yang.Revision+".yang")
	if err := os.WriteFile(module, []byte(yang.Text()), 0o600); err != nil {
		t.Fatal(err)
	}
	for n, tree := range parts(t) {
		file := filepath.Join(dir, "data.xml")
		if err := os.WriteFile(file, []byte(tree.String()), 0o600); err != nil {
			t.Fatal(err)
		}
		if out, err := exec.Command(lint, "-t", "config", module, file).CombinedOutput(); err != nil || len(out) > 0 {
			t.Errorf("configuration %d: %v\n%.2000s\n%.500s", n, err, out, tree)
		}
	}
}

// A subtree filter selects as the examples of RFC 6241 §6.4 say.
func TestFilter(t *testing.T) {
	const all = `<data><top><users><user><name>root</name><type>superuser</type></user><user><name>fred</name><type>admin</type><company-info><dept>2</dept><id>2</id></company-info></user></users></top></data>`
	for filter, want := range map[string]string{
		``:                                  `<data/>`,
		`<top/>`:                            all,
		`<top><users/></top>`:               all,
		`<bottom/>`:                         `<data/>`,
		`<top><users><user/></users></top>`: `<data><top><users><user><name>root</name><type>superuser</type></user><user><name>fred</name><type>admin</type><company-info><dept>2</dept><id>2</id></company-info></user></users></top></data>`,
		`<top><users><user><name/></user></users></top>`:                                             `<data><top><users><user><name>root</name></user><user><name>fred</name></user></users></top></data>`,
		`<top><users><user><name>fred</name></user></users></top>`:                                   `<data><top><users><user><name>fred</name><type>admin</type><company-info><dept>2</dept><id>2</id></company-info></user></users></top></data>`,
		`<top><users><user><name>fred</name><type/></user></users></top>`:                            `<data><top><users><user><name>fred</name><type>admin</type></user></users></top></data>`,
		`<top><users><user><name>fred</name><company-info><id/></company-info></user></users></top>`: `<data><top><users><user><name>fred</name><company-info><id>2</id></company-info></user></users></top></data>`,
		`<top><users><user><name>nobody</name></user></users></top>`:                                 `<data/>`,
	} {
		data, _ := yang.Parse([]byte(all))
		f, err := yang.Parse([]byte(`<filter>` + filter + `</filter>`))
		if err != nil {
			t.Fatal(err)
		}
		if got := string(yang.Filter(f, data).Append(nil, "", "")); got != want {
			t.Errorf("%s:\n%s, want\n%s", filter, got, want)
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte(`<a xmlns="x"><b c="d">e</b></a>`))
	f.Add([]byte(`<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>`))
	form := language.DeviceForm()
	config := parts(f)[0]
	f.Fuzz(func(t *testing.T, text []byte) {
		e, err := yang.Parse(text)
		if err != nil {
			return
		}
		again, err := yang.Parse(e.Append(nil, "", ""))
		if err != nil || string(again.Append(nil, "", "")) != string(e.Append(nil, "", "")) {
			t.Fatalf("%q is not read again as it is written: %v", text, err)
		}
		_, _ = yang.Edit(form, config, e, "merge")
		_ = yang.Filter(e, config)
		var r yang.Reader
		_, _ = r.Value(form, e)
	})
}
