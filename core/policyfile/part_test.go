package policyfile_test

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/policyfile"
	"imbrel.example/imbrel/core/yang"
)

// Of each example and each of its nodes, the part that the node needs, as a tree of elements and back, and as a text and back, means at
// that node what the whole file does.
func TestPartMeansTheSame(t *testing.T) {
	form := language.DeviceForm()
	names, _ := filepath.Glob("../../examples/*.yaml")
	more, _ := filepath.Glob("../../examples/cookbook/*.yaml")
	nodes := 0
	for _, name := range append(names, more...) {
		root, err := os.OpenRoot(filepath.Dir(name))
		if err != nil {
			t.Fatal(err)
		}
		f, source, err := policyfile.ReadOpened(root.FS().Open, filepath.Base(name), nil)
		root.Close()
		if err != nil {
			continue // includes files of other folders, or time zones
		}
		for i := range f.Network.Nodes {
			node := &f.Network.Nodes[i]
			nodes++
			part := source.Part(f, node)
			tree := yang.Tree(form, &part)
			parsed, err := yang.Parse(tree.In(yang.Namespace).Append(nil, "", ""))
			if err != nil {
				t.Fatalf("%s at %s: %v", name, node.Name, err)
			}
			var r yang.Reader
			back, err := r.Value(form, parsed)
			if err != nil {
				t.Fatalf("%s at %s: %v\n%s", name, node.Name, err, tree)
			}
			written, err := policyfile.Write(&back)
			if err != nil {
				t.Fatal(err)
			}
			again, _, err := policyfile.Read("part.yaml", bytes.NewReader(written), nil, nil)
			if err != nil {
				t.Errorf("%s at %s: %v\n%s", name, node.Name, err, written)
				continue
			}
			whole := only(*f, node.Name)
			if r := changes.Between(changes.Checked{File: &whole}, changes.Checked{File: again}); len(r.Interfaces) > 0 {
				t.Errorf("%s at %s: %+v\n%s", name, node.Name, r.Interfaces, written)
			}
			if len(again.Attach) != len(whole.Attach) {
				t.Errorf("%s at %s: %d policies are attached, not %d", name, node.Name, len(again.Attach), len(whole.Attach))
			}
		}
	}
	if nodes < 30 {
		t.Errorf("only %d nodes were looked at", nodes)
	}
}

// only returns a file with the attachments at one node alone.
func only(f policy.File, node string) policy.File {
	var kept []policy.Attachment
	for i := range f.Attach {
		if f.Attach[i].Interface.Node.Name == node {
			kept = append(kept, f.Attach[i])
		}
	}
	f.Attach = kept
	return f
}
