package files

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"imbrel.example/imbrel/core/capture"
	"imbrel.example/imbrel/core/ipfix"
	"imbrel.example/imbrel/core/linetest"
	"imbrel.example/imbrel/core/survey"
)

// maxSurvey is the largest saved survey that is read.
const maxSurvey = 256 << 20

// ReadSurvey reads a saved survey.
func ReadSurvey(name string) (*survey.Result, error) { return readSurvey(Place{}, name) }

func readSurvey(in Place, name string) (*survey.Result, error) {
	file, err := openNamed(in, name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	text, err := io.ReadAll(io.LimitReader(file, maxSurvey+1))
	if err != nil {
		return nil, fmt.Errorf("cannot read %s: %w", name, err)
	}
	if len(text) > maxSurvey {
		return nil, fmt.Errorf("%s is larger than %d MiB: no saved survey is that large", name, maxSurvey>>20)
	}
	var r survey.Result
	if err := json.Unmarshal(text, &r); err != nil || r.Survey != survey.Version || r.From.IsZero() || r.To.Before(r.From) {
		return nil, fmt.Errorf("%s is not a saved survey: save one with `imbrel survey SOURCE -o json >SURVEY`", name)
	}
	return &r, nil
}

// A FlowFile is a file of messages of IPFIX (RFC 5655).
type FlowFile struct {
	name  string
	from  *bufio.Reader
	bytes *countingReader
	file  io.Closer
	cut   bool
}

// OpenSource opens what a survey reads: a capture, or a file of messages of IPFIX; the other is nil.
func OpenSource(name string) (*Capture, *FlowFile, error) {
	file, err := openNamed(Place{}, name)
	if err != nil {
		return nil, nil, err
	}
	counted := counting(file)
	r := bufio.NewReaderSize(counted, 1<<18)
	if head, _ := r.Peek(4); len(head) == 4 {
		if _, err := ipfix.Length(head); err == nil {
			return nil, &FlowFile{name: name, from: r, bytes: counted, file: file}, nil
		}
	}
	c, err := capture.NewReader(name, r)
	if err != nil {
		file.Close()
		return nil, nil, err
	}
	return &Capture{Reader: c, bytes: counted, file: file}, nil, nil
}

// Next returns the next message, valid until the next call; nil at the end. Where no message begins, the rest of the file is left out.
func (f *FlowFile) Next() ([]byte, error) {
	head, err := f.from.Peek(4)
	if errors.Is(err, io.EOF) && len(head) == 0 {
		return nil, nil
	}
	n, wrong := ipfix.Length(head)
	if wrong != nil || n == 0 {
		f.cut = true
		return nil, nil
	}
	b := make([]byte, n)
	if _, err := io.ReadFull(f.from, b); err != nil {
		if f.cut = true; errors.Is(err, io.ErrUnexpectedEOF) {
			return nil, nil
		}
		return nil, fmt.Errorf("cannot read %s: %w", f.name, err)
	}
	return b, nil
}

// Done returns how much of the file is read, from 0 to 1.
func (f *FlowFile) Done() float64 { return float64(f.bytes.count) / float64(max(f.bytes.size, 1)) }

// Cut reports whether something other than messages follows the last.
func (f *FlowFile) Cut() bool { return f.cut }

// Close closes the file.
func (f *FlowFile) Close() error { return f.file.Close() }

// ReadLine reads what was measured of a line.
func ReadLine(name string) (*linetest.Line, error) {
	text, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, fs.ErrNotExist
	}
	if err != nil {
		return nil, inWords(name, err)
	}
	var l linetest.Line
	if err := json.Unmarshal(text, &l); err != nil || l.Version != linetest.Version {
		return nil, fmt.Errorf("%s is not a measured line: save one with `imbrel measure ADDRESS --save LINE`", name)
	}
	return &l, nil
}
