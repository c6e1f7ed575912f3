package language

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	"imbrel.example/imbrel/core/policy"
)

// MaxNesting is how deep a document may be nested; no policy is that deep.
const MaxNesting = 100

// ReadJSON returns the File that a JSON text is; zone looks up a time zone. The error is that of
// FromJSON, or of Read.
func ReadJSON(name string, text []byte, zone func(string) (*time.Location, error)) (*policy.File, error) {
	doc, err := FromJSON(name, text)
	if err != nil {
		return nil, err
	}
	return Read(doc, zone)
}

// FromJSON returns the document that a JSON text holds, for Read: the same keys
// and values as in a policy file, which is YAML. The places of what is wrong with it
// have name as their file.
func FromJSON(name string, text []byte) (Value, error) {
	d := &jsonDocument{text: text, decoder: json.NewDecoder(bytes.NewReader(text)), at: policy.Place{File: name, Line: 1, Column: 1}}
	d.decoder.UseNumber()
	n, err := d.value(0)
	if err == nil {
		if _, more := d.decoder.Token(); more != io.EOF {
			err = fmt.Errorf("there is more after the end of the document")
		}
	}
	if err != nil {
		return Value{}, policy.Problems{{Place: d.place(), Text: "this is not a JSON document: " + err.Error(), Help: "look at this place and the one before it"}}
	}
	return n, nil
}

type jsonDocument struct {
	text    []byte
	decoder *json.Decoder
	offset  int // to where at is known
	at      policy.Place
}

// place returns where what the decoder reads next begins.
func (d *jsonDocument) place() policy.Place {
	for end := int(d.decoder.InputOffset()); d.offset < len(d.text); d.offset++ {
		c := d.text[d.offset]
		if d.offset >= end && strings.IndexByte(" \t\r\n,:", c) < 0 {
			break
		}
		d.at.Column++
		if c == '\n' {
			d.at.Line, d.at.Column = d.at.Line+1, 1
		}
	}
	return d.at
}

func (d *jsonDocument) value(depth int) (Value, error) {
	if depth > MaxNesting {
		return Value{}, fmt.Errorf("nested more than %d deep", MaxNesting)
	}
	n := Value{Kind: Scalar, At: d.place()}
	token, err := d.decoder.Token()
	if err != nil {
		return Value{}, err
	}
	switch v := token.(type) {
	case nil:
		n.Kind = Null
	case json.Delim:
		n.Kind = List
		if v == '{' {
			n.Kind = Keyed
		}
		for d.decoder.More() {
			item, err := d.value(depth + 1)
			if err != nil {
				return Value{}, err
			}
			if n.Kind == Keyed && len(n.Keys) == len(n.Items) {
				n.Keys = append(n.Keys, item)
			} else {
				n.Items = append(n.Items, item)
			}
		}
		_, err = d.decoder.Token()
	default:
		n.Text = fmt.Sprint(v)
	}
	return n, err
}
