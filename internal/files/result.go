package files

import (
	"encoding/json"
	"fmt"
	"io"

	"imbrel.example/imbrel/core/measure"
)

// maxResultBytes bounds a saved result: that of ten thousand interfaces is a tenth of it.
const maxResultBytes = 256 << 20

// ReadResults reads the results of rehearsals that were saved as JSON, one or several in
// the order of the file; "-" is standard input, given as stdin.
func ReadResults(name string, stdin io.Reader) ([]*measure.Result, error) {
	r := stdin
	if name == "-" {
		name = "stdin"
	} else {
		file, err := openNamed(Place{}, name)
		if err != nil {
			return nil, fmt.Errorf("cannot read the result: %w", err)
		}
		defer file.Close()
		r = file
	}
	text, err := io.ReadAll(io.LimitReader(r, maxResultBytes+1))
	if err != nil {
		return nil, fmt.Errorf("cannot read %s: %w", name, err)
	}
	if len(text) > maxResultBytes {
		return nil, fmt.Errorf("%s is larger than %d MiB: no saved result is that large", name, maxResultBytes>>20)
	}
	const help = "save one with `imbrel rehearse FILE -o json >RESULT`"
	var saved struct {
		Imbrel int
		Runs   []*measure.Result
	}
	if err := json.Unmarshal(text, &saved); err != nil {
		return nil, fmt.Errorf("%s is not a saved result, but other text or a part of one: %s", name, help)
	}
	results := saved.Runs
	if results == nil {
		var one measure.Result
		if err := json.Unmarshal(text, &one); err != nil {
			return nil, fmt.Errorf("%s is not a saved result: %s", name, help)
		}
		results = []*measure.Result{&one}
	}
	for _, r := range results {
		if r == nil || r.Imbrel != 1 || r.Rehearsal == "" {
			return nil, fmt.Errorf("%s is not a saved result of a rehearsal: %s", name, help)
		}
	}
	return results, nil
}
