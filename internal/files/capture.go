package files

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"github.com/gopacket/gopacket"
	"github.com/gopacket/gopacket/layers"
	"github.com/gopacket/gopacket/pcapgo"

	"imbrel.example/imbrel/core/capture"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/traffic"
)

// Captures opens the captures of a policy file and closes them all at the end.
type Captures struct {
	In   Place
	open []io.Closer
}

// Open opens a pcap or pcapng file, plain or compressed by gzip.
func (c *Captures) Open(name string) (traffic.Reader, error) {
	file, err := openRegular(c.In, name)
	if err != nil {
		return nil, err
	}
	c.open = append(c.open, file)
	counted := counting(file)
	read, err := capture.NewReader(name, bufio.NewReaderSize(counted, 1<<16))
	if err != nil {
		return nil, err
	}
	return &replayed{read, counted}, nil
}

// A replayed capture knows how much of its file is not read yet.
type replayed struct {
	*capture.Reader
	bytes *countingReader
}

// Left returns how much of the file is not read, from 0 to 1.
func (r *replayed) Left() float64 {
	return max(0, float64(r.bytes.size-r.bytes.count+int64(r.Ahead()))/float64(max(r.bytes.size, 1)))
}

// counting counts what is read of a file.
func counting(file fs.File) *countingReader {
	counted := &countingReader{from: file}
	if info, err := file.Stat(); err == nil {
		counted.size = info.Size()
	}
	return counted
}

// Close closes every capture that was opened.
func (c *Captures) Close() {
	for _, f := range c.open {
		f.Close()
	}
}

// OpenCapture opens a capture to be explained: one that ends in the middle of a
// packet is read as far as it goes.
func OpenCapture(name string) (*Capture, error) {
	file, err := openNamed(Place{}, name)
	if err != nil {
		return nil, err
	}
	counted := counting(file)
	c, err := capture.NewReader(name, bufio.NewReaderSize(counted, 1<<18))
	if err != nil {
		file.Close()
		return nil, err
	}
	return &Capture{Reader: c, bytes: counted, file: file}, nil
}

// A Capture is a capture to be explained.
type Capture struct {
	*capture.Reader
	bytes *countingReader
	file  io.Closer
	cut   bool
}

// ReadFrame returns the next frame. A capture cut short ends there.
func (c *Capture) ReadFrame() ([]byte, int, time.Duration, bool, error) {
	frame, wire, at, ok, err := c.Reader.ReadFrame()
	if errors.Is(err, capture.ErrCutShort) {
		c.cut = true
		return nil, 0, 0, false, nil
	}
	return frame, wire, at, ok, err
}

// Done returns how much of the file is read, from 0 to 1.
func (c *Capture) Done() float64 { return float64(c.bytes.count) / float64(max(c.bytes.size, 1)) }

// Notes returns what there is to know of the file.
func (c *Capture) Notes() []string {
	var notes []string
	for _, s := range c.Skipped() {
		notes = append(notes, fmt.Sprintf("%s cannot be used: %s", s.Why, humanize.Count(s.Count)))
	}
	if c.cut {
		notes = append(notes, fmt.Sprintf("the file is cut short after packet %d", c.Count()))
	}
	return notes
}

// Close closes the file.
func (c *Capture) Close() error { return c.file.Close() }

type countingReader struct {
	from        io.Reader
	count, size int64
}

func (r *countingReader) Read(b []byte) (int, error) {
	n, err := r.from.Read(b)
	r.count += int64(n)
	return n, err
}

// A CaptureDir writes what enters and leaves each interface as pcapng files,
// DIR/NODE/INTERFACE-in.pcapng and -out.pcapng. It never overwrites a file. Until all is
// written they have other names, so that whatever ends the program, no file is half.
type CaptureDir struct {
	dir   string
	files map[captureKey]*captureFile
}

type captureKey struct {
	at        *policy.Interface
	direction policy.Direction
}

type captureFile struct {
	part   *Part
	writer *pcapgo.NgWriter
}

// NewCaptureDir makes the folder, unless it exists.
func NewCaptureDir(dir string) (*CaptureDir, error) {
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return nil, fmt.Errorf("cannot make the folder for captures: %w", err)
	}
	return &CaptureDir{dir: dir, files: make(map[captureKey]*captureFile)}, nil
}

// Begin begins the file of an interface in a direction, which Write does otherwise with the first packet.
func (d *CaptureDir) Begin(at *policy.Interface, direction policy.Direction) error {
	f, err := d.create(at, direction)
	if err == nil {
		d.files[captureKey{at, direction}] = f
	}
	return err
}

// Write writes a packet at an interface. Simulated time zero is the Unix epoch.
func (d *CaptureDir) Write(at *policy.Interface, direction policy.Direction, now time.Duration, p *packet.Packet) error {
	key := captureKey{at, direction}
	f := d.files[key]
	if f == nil {
		var err error
		if f, err = d.create(at, direction); err != nil {
			return err
		}
		d.files[key] = f
	}
	info := gopacket.CaptureInfo{Timestamp: time.Unix(0, int64(now)), CaptureLength: len(p.Bytes), Length: p.WireLength()}
	if err := f.writer.WritePacket(info, p.Bytes); err != nil {
		return fmt.Errorf("cannot write %s: %w", f.part.name, err)
	}
	return nil
}

func (d *CaptureDir) create(at *policy.Interface, direction policy.Direction) (*captureFile, error) {
	dir := filepath.Join(d.dir, at.Node.Name)
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return nil, fmt.Errorf("cannot make the folder for captures: %w", err)
	}
	name := filepath.Join(dir, at.Name+"-"+direction.String()+".pcapng")
	part, err := NewPart(name)
	if errors.Is(err, os.ErrExist) {
		return nil, fmt.Errorf("%s already exists; not overwritten. Name another folder with --capture-out", name)
	}
	if err != nil {
		return nil, fmt.Errorf("cannot write a capture: %w", err)
	}
	w, err := pcapgo.NewNgWriterInterface(part,
		pcapgo.NgInterface{Name: at.Path() + " " + direction.String(), LinkType: layers.LinkTypeEthernet, TimestampResolution: 9},
		pcapgo.NgWriterOptions{SectionInfo: pcapgo.NgSectionInfo{Application: "imbrel"}})
	if err != nil {
		part.Discard()
		return nil, fmt.Errorf("cannot write %s: %w", name, err)
	}
	return &captureFile{part, w}, nil
}

// Close writes out what is left and gives the files their names. After an error there is
// none of them.
func (d *CaptureDir) Close() error {
	for _, f := range d.files {
		if err := f.writer.Flush(); err != nil {
			d.Discard()
			return fmt.Errorf("cannot write %s: %w", f.part.name, err)
		}
	}
	var done []string
	for _, f := range d.files {
		if err := f.part.Finish(); err != nil {
			for _, name := range done {
				os.Remove(name)
			}
			d.Discard()
			return fmt.Errorf("cannot write %s: %w", f.part.name, err)
		}
		done = append(done, f.part.name)
	}
	return nil
}

// Discard removes what was written.
func (d *CaptureDir) Discard() {
	for _, f := range d.files {
		f.part.Discard()
	}
}
