package deliver_test

import (
	"slices"
	"strings"
	"testing"

	"imbrel.example/imbrel/core/deliver"
	"imbrel.example/imbrel/core/language"
	"imbrel.example/imbrel/core/yang"
)

// What is delivered, by what the device has, what it was given last, and what the file says.
func TestWant(t *testing.T) {
	config := func(classes ...string) *yang.Element {
		if len(classes) == 0 {
			return nil
		}
		out := yang.New("policy-file", yang.Leaf("imbrel", "1")).In(yang.Namespace)
		for _, c := range classes {
			name, port, _ := strings.Cut(c, ":")
			if name != "" {
				out.Add(yang.New("classes", yang.Leaf("name", name), yang.New("match", yang.Leaf("id", "1"), yang.Leaf("port", port))))
			}
		}
		return out
	}
	list := func(s string) []string {
		if s == "" {
			return nil
		}
		return strings.Split(s, " ")
	}
	for name, c := range map[string]struct {
		device, last, file string
		takeOver           bool
		want, kept, byHand string
	}{
		"the first delivery replaces what differs":             {device: "a:1", file: "a:2 b:1", want: "a:2 b:1"},
		"the first delivery keeps what the file has not":       {device: "a:1 x:1", file: "a:2", want: "a:2 x:1", kept: "classes.x"},
		"what was delivered and is not in the file goes":       {device: "a:1 b:1", last: "a:1 b:1", file: "a:1", want: "a:1"},
		"what somebody added stays":                            {device: "a:1 x:1", last: "a:1", file: "a:2", want: "a:2 x:1", kept: "classes.x"},
		"what somebody changed is not touched":                 {device: "a:9 b:1", last: "a:1 b:1", file: "a:2 b:2", want: "a:9 b:2", byHand: "classes.a"},
		"what somebody changed as the file says is no quarrel": {device: "a:2", last: "a:1", file: "a:2", want: "a:2"},
		"what somebody removed is not put back":                {device: "b:1", last: "a:1 b:1", file: "a:1 b:1", want: "b:1", byHand: "classes.a"},
		"what somebody changed and the file drops stays":       {device: "a:9", last: "a:1", file: ":", want: "a:9", byHand: "classes.a"},
		"to take over is to have what the file says":           {device: "a:9 x:1", last: "a:1", file: "a:2", takeOver: true, want: "a:2", byHand: "classes.a"},
		"a device without a configuration":                     {file: "a:1", want: "a:1"},
	} {
		w := deliver.Want(language.DeviceForm(), config(list(c.device)...), config(list(c.last)...), config(list(c.file)...), c.takeOver)
		if !deliver.Same(language.DeviceForm(), w.Config, config(list(c.want)...)) {
			t.Errorf("%s: %s", name, w.Config)
		}
		if !slices.Equal(w.Kept, list(c.kept)) || !slices.Equal(w.ByHand, list(c.byHand)) {
			t.Errorf("%s: kept %v, by hand %v", name, w.Kept, w.ByHand)
		}
	}
}
