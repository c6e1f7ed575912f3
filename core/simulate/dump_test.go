package simulate

import (
	"encoding/json"
	"math/rand/v2"
	"os"
	"strconv"
	"testing"
)

func TestDump(t *testing.T) {
	n, err := strconv.Atoi(os.Getenv("DUMP"))
	if err != nil {
		t.Skip()
	}
	w := &world{r: rand.New(rand.NewPCG(31, uint64(n)))}
	w.file()
	text, _ := json.MarshalIndent(w.doc, "", " ")
	os.WriteFile("/tmp/w/doc.json", text, 0o644)
}
