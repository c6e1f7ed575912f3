package policy

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"strings"
)

// MaxNesting is how deep a document may be nested; no policy is that deep.
const MaxNesting = 100

// FromJSON returns the document that a JSON text holds, for Read: the same keys
// and values as in a policy file, which is YAML. name stands in the places of what
// is wrong with it.
func FromJSON(name string, text []byte) (Node, error) {
	d := &jsonDocument{text: text, decoder: json.NewDecoder(bytes.NewReader(text)), at: Place{File: name, Line: 1, Column: 1}}
	d.decoder.UseNumber()
	n, err := d.value(0)
	if err == nil {
		if _, more := d.decoder.Token(); more != io.EOF {
			err = fmt.Errorf("something stands behind the document")
		}
	}
	if err != nil {
		return Node{}, Problems{{Place: d.place(), Text: "this is not a JSON document: " + err.Error(), Help: "look at this place and the one before it"}}
	}
	return n, nil
}

type jsonDocument struct {
	text    []byte
	decoder *json.Decoder
	offset  int // to where at is known
	at      Place
}

// place returns where what the decoder reads next begins.
func (d *jsonDocument) place() Place {
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

func (d *jsonDocument) value(depth int) (Node, error) {
	if depth > MaxNesting {
		return Node{}, fmt.Errorf("nested more than %d deep", MaxNesting)
	}
	n := Node{Kind: Scalar, At: d.place()}
	token, err := d.decoder.Token()
	if err != nil {
		return Node{}, err
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
				return Node{}, err
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
