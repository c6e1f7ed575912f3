package render

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"unicode/utf8"
)

// JSON writes a value as one line of JSON. What a terminal would act on is escaped.
func JSON(w io.Writer, v any) error {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	if err := e.Encode(v); err != nil {
		return err
	}
	text := bytes.TrimSuffix(b.Bytes(), []byte("\n"))
	for len(text) > 0 {
		plain := bytes.IndexFunc(text, hidden) // these are in strings alone
		if plain < 0 {
			plain = len(text)
		}
		if _, err := w.Write(text[:plain]); err != nil {
			return err
		}
		if text = text[plain:]; len(text) == 0 {
			break
		}
		r, n := utf8.DecodeRune(text)
		text = text[n:]
		if err := escape(w, r); err != nil {
			return err
		}
	}
	_, err := io.WriteString(w, "\n")
	return err
}

// escape writes a character as JSON escapes it: in UTF-16.
func escape(w io.Writer, r rune) (err error) {
	if r > 0xffff {
		r -= 0x10000
		_, err = fmt.Fprintf(w, `\u%04x\u%04x`, 0xd800+r>>10, 0xdc00+r&0x3ff)
	} else {
		_, err = fmt.Fprintf(w, `\u%04x`, r)
	}
	return err
}
