package yang

import (
	"os"
	"os/exec"
	"path/filepath"
	"testing"
)

// What others' tools say of the module: nothing.
func TestModuleIsValid(t *testing.T) {
	lint, err := exec.LookPath("yanglint")
	if err != nil {
		t.Skip("no yanglint here: install libyang2-tools")
	}
	file := filepath.Join(t.TempDir(), Module+"@"+Revision+".yang")
	if err := os.WriteFile(file, []byte(Text()), 0o600); err != nil {
		t.Fatal(err)
	}
	if out, err := exec.Command(lint, "-f", "tree", file).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%.3000s", err, out)
	}
}
