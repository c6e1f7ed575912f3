package render

import (
	"encoding/json"
	"io"
)

// JSON writes a value as one line of JSON.
func JSON(w io.Writer, v any) error {
	e := json.NewEncoder(w)
	e.SetEscapeHTML(false)
	return e.Encode(v)
}
