package files

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"imbrel.example/imbrel/core/gate"
)

// maxKept bounds what is read of a gate's counters.
const maxKept = 32 << 20

// ReadKept reads what a gate has counted; nil: there is no such file yet.
func ReadKept(name string) (*gate.Kept, error) {
	f, err := os.Open(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("cannot read the counters: %w", err)
	}
	defer f.Close()
	text, err := io.ReadAll(io.LimitReader(f, maxKept))
	if err != nil {
		return nil, fmt.Errorf("cannot read the counters: %w", err)
	}
	var k gate.Kept
	if err := json.Unmarshal(text, &k); err != nil {
		return nil, fmt.Errorf("%s does not have the counters of a gate (%w): remove it to begin anew", name, err)
	}
	return &k, nil
}

// WriteKept writes it.
func WriteKept(name string, k *gate.Kept) error {
	text, err := json.Marshal(k)
	if err != nil {
		return err
	}
	return Replace(name, text)
}
