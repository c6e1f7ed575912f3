package render

import (
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"

	"imbrel.example/imbrel/core/changes"
	"imbrel.example/imbrel/core/deliver"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/words"
	"imbrel.example/imbrel/internal/files"
)

// A Delivery is a delivery for people and programs: the changes, and the outcome.
type Delivery struct {
	Imbrel     int               `json:"imbrel"`
	File       string            `json:"file"`
	ID         uint64            `json:"id,omitempty"` // of the history
	Devices    []DeliveryDevice  `json:"devices,omitempty"`
	Committed  bool              `json:"committed"`
	Finished   bool              `json:"finished"`
	Outcomes   []deliver.Outcome `json:"outcomes,omitempty"`
	Verified   string            `json:"verified,omitempty"`
	Failure    string            `json:"failure,omitempty"`
	Refused    bool              `json:"refused,omitempty"`
	Before     string            `json:"-"` // what the changes are from and to
	After      string            `json:"-"`
	Committing bool              `json:"-"`
	TakeOver   bool              `json:"-"`
	Drift      bool              `json:"-"`
}

// A DeliveryDevice is a device, and what is to change there.
type DeliveryDevice struct {
	Node    string          `json:"node"`
	Address string          `json:"address"`
	State   string          `json:"state"` // same, differs or unread
	Why     string          `json:"why,omitempty"`
	Kept    []string        `json:"kept,omitempty"`
	ByHand  []string        `json:"by_hand,omitempty"`
	Less    []words.Fact    `json:"less,omitempty"` // than the file asks
	Changes *changes.Result `json:"changes,omitempty"`

	KeepsFlows bool `json:"keeps_flows,omitempty"` // those under way keep their class until they are renewed
}

// Unread returns how many devices could not be read.
func (d *Delivery) Unread() int {
	return d.count(func(k *DeliveryDevice) bool { return k.State == "unread" })
}

// Differs returns how many devices differ from the file.
func (d *Delivery) Differs() int {
	return d.count(func(k *DeliveryDevice) bool { return k.State == "differs" })
}

// ChangedByHand returns how many devices somebody changed since the last delivery.
func (d *Delivery) ChangedByHand() int {
	return d.count(func(k *DeliveryDevice) bool { return len(k.ByHand) > 0 })
}

func (d *Delivery) count(is func(*DeliveryDevice) bool) (n int) {
	for i := range d.Devices {
		if is(&d.Devices[i]) {
			n++
		}
	}
	return n
}

// A change is one that several devices have in common.
type change struct {
	nodes []string
	what  *changes.Result
}

// common returns the changes, each once.
func (d *Delivery) common() (out []*change) {
	known := make(map[string]*change)
	for i := range d.Devices {
		k := &d.Devices[i]
		if k.State != "differs" {
			continue
		}
		text, _ := json.Marshal(k.Changes) // strings and numbers alone
		key := strings.NewReplacer(`"`+k.Node+`"`, `"·"`, k.Node+"/", "·/", "."+k.Node+".", ".·.").Replace(string(text))
		if known[key] == nil {
			known[key] = &change{what: k.Changes}
			out = append(out, known[key])
		}
		known[key].nodes = append(known[key].nodes, k.Node)
	}
	return out
}

// InWords returns what a delivery changes, for its history.
func (d *Delivery) InWords() (out []string) {
	for _, c := range d.common() {
		for _, f := range c.what.Fields {
			out = append(out, fmt.Sprintf("%s: %s: %s → %s", humanize.List(c.nodes), f.Path, orDash(f.Old), orDash(f.New)))
		}
	}
	return out
}

// maxNamed is how many devices are named where there are many.
const maxNamed = 8

func named(nodes []string) string {
	if len(nodes) > maxNamed {
		return fmt.Sprintf("%s and %d more", strings.Join(nodes[:maxNamed], ", "), len(nodes)-maxNamed)
	}
	return humanize.List(nodes)
}

// Delivery shows what is to change at devices.
func (t Text) Delivery(d *Delivery) {
	read := len(d.Devices) - d.Unread()
	differs := fmt.Sprintf("%d differ from the file.", d.Differs())
	switch {
	case d.Differs() == 0 && read > 0:
		differs = "All that answered have what the file says."
		if strings.HasPrefix(d.After, "what they had") {
			differs = "All that answered have it."
		}
	case d.Differs() == 1:
		differs = "1 differs from the file."
	}
	if strings.HasPrefix(d.After, "what they had") && d.Differs() > 0 {
		differs = fmt.Sprintf("%s to go back.", humanize.Plural(d.Differs(), "device"))
		differs = strings.Replace(differs, "device to", "device is to", 1)
		differs = strings.Replace(differs, "devices to", "devices are to", 1)
	}
	if read == 0 {
		differs = ""
	}
	t.paragraph("", strings.TrimSpace(fmt.Sprintf("%d of %s answered. %s", read, humanize.Plural(len(d.Devices), "device"), differs)))
	for i := range d.Devices {
		k := &d.Devices[i]
		if k.State == "unread" {
			t.paragraph("", "`"+k.Node+"` could not be read: "+k.Why+".")
		}
	}
	for _, c := range d.common() {
		t.Line("")
		t.Title("at %s", named(c.nodes))
		t.fields("The edit", c.what.Fields)
		for i := range c.what.Interfaces {
			t.Line("")
			t.changed(&c.what.Interfaces[i])
		}
	}
	t.items(d)
	t.less(d)
	t.Line("")
	switch {
	case d.Refused && d.Unread() > 0:
		t.paragraph("", "Nothing was changed: all devices must answer. --only NODE delivers to one.")
	case d.Refused:
		t.paragraph("", "Nothing was changed, because somebody changed devices by hand. Put those changes into the file, or give --take-over to overwrite them.")
	case d.Drift || d.Differs() == 0:
	case !d.Committing:
		t.paragraph("", "Nothing was changed. --commit puts it in force.")
	}
}

// items shows what devices have that is not in the file, and what somebody changed there.
func (t Text) items(d *Delivery) {
	for i := range d.Devices {
		k := &d.Devices[i]
		say := func(paths []string, format string) {
			var all []string
			for _, p := range paths {
				kind, name := deliver.Section(p)
				all = append(all, fmt.Sprintf("the %s `%s`", kind, name))
			}
			if len(all) > 0 {
				t.paragraph("", fmt.Sprintf(format, "`"+k.Node+"`", humanize.List(all)))
			}
		}
		if d.Drift {
			say(k.ByHand, "Changed by hand since the last delivery, at %s: %s.")
			continue
		}
		say(k.Kept, "Kept, since the file does not have it, at %s: %s.")
		if d.TakeOver {
			say(k.ByHand, "Overwritten, although somebody changed it since the last delivery, at %s: %s.")
		} else {
			say(k.ByHand, "Not touched, since somebody changed it after the last delivery, at %s: %s.")
		}
	}
}

// less shows what devices do less than the file asks, each once, and which keep flows in their old classes.
func (t Text) less(d *Delivery) {
	where := make(map[string][]string)
	var order []string
	var keep, moves []string
	for i := range d.Devices {
		k := &d.Devices[i]
		for _, f := range k.Less {
			text := f.String()
			if where[text] == nil {
				order = append(order, text)
			}
			where[text] = append(where[text], k.Node)
		}
		if k.KeepsFlows && k.Changes != nil {
			for n := range k.Changes.Interfaces {
				for _, m := range k.Changes.Interfaces[n].Packets {
					if move := "`" + m.From + "` → `" + m.To + "`"; !slices.Contains(moves, move) {
						moves = append(moves, move)
					}
					if !slices.Contains(keep, k.Node) {
						keep = append(keep, k.Node)
					}
				}
			}
		}
	}
	for n, text := range order {
		if n == 0 {
			t.Line("")
			t.Title("Less than the file asks")
		}
		t.paragraph("  ", fmt.Sprintf("at %s: %s.", named(where[text]), text))
	}
	if len(keep) > 0 && !d.Drift {
		t.Line("")
		t.paragraph("", fmt.Sprintf("Flows that are under way keep their class at %s until they are renewed (%s); --renew asks for it.", named(keep), strings.Join(moves, ", ")))
	}
}

// DeliveryEnd shows what became of a delivery.
func (t Text) DeliveryEnd(d *Delivery) {
	states := make(map[deliver.State][]string)
	unsaved := []string{}
	for _, o := range d.Outcomes {
		states[o.State] = append(states[o.State], o.Node)
		if o.State == deliver.AsWished && !o.Saved {
			unsaved = append(unsaved, o.Node)
		}
	}
	word := t.good("DONE")
	said := fmt.Sprintf("%s changed.", humanize.Plural(len(states[deliver.AsWished]), "device"))
	if len(states[deliver.AsWished]) == len(d.Outcomes) && len(d.Outcomes) > 1 {
		said = fmt.Sprintf("All %d devices changed.", len(d.Outcomes))
	}
	switch n := len(d.Outcomes); {
	case len(states[deliver.AsBefore]) == n:
		word, said = t.bad("TAKEN BACK"), "All devices are as they were."
		if n == 1 {
			said = "`" + d.Outcomes[0].Node + "` is as it was."
		}
	case d.Failure != "" && !d.Finished:
		word, said = t.bad("NOT FINISHED"), fmt.Sprintf("Run `imbrel deliver resume %s`.", d.File)
	case d.Failure != "":
		word, said = t.bad("IN PART"), "Some devices changed, and some are as they were."
	}
	t.verdictLine(word, said)
	if d.Verified != "" && !strings.HasPrefix(d.Verified, "failed") {
		t.paragraph("", "Verified: "+d.Verified+".")
	}
	if d.Failure != "" {
		for line := range strings.Lines(d.Failure) {
			t.paragraph("", "Because: "+strings.TrimSpace(line)+".")
		}
	}
	if d.Failure == "" && len(unsaved) == 0 {
		if d.ID > 0 && len(states[deliver.AsWished]) > 0 {
			t.paragraph("", fmt.Sprintf("It is delivery %d. `imbrel deliver back %s` takes it back.", d.ID, d.File))
		}
		return
	}
	w := t.grid([]column{{"device", true}, {"now", true}, {"next start", true}, {"why", true}}, nil)
	for _, o := range d.Outcomes {
		next := "as before"
		if o.Saved {
			next = "as now"
		}
		if o.State == deliver.AsBefore {
			next = "as now"
		}
		w.add(table.Row{o.Node, string(o.State), next, orDash(o.Why)})
	}
	t.put(w)
}

// History lists deliveries.
func (t Text) History(all []files.Delivery) {
	if len(all) == 0 {
		t.Line("Nothing was delivered yet.")
		return
	}
	for i := range all {
		d := &all[i]
		if i > 0 {
			t.Line("")
		}
		var nodes []string
		for _, k := range d.Devices {
			nodes = append(nodes, k.Node)
		}
		what := "to " + named(nodes)
		if d.Back > 0 {
			what = fmt.Sprintf("back to before %d, %s", d.Back, what)
		}
		t.Title("%d  %s UTC, %s, %s: %s", d.ID, d.At.Format(time.DateTime), d.By, what, stateInWords(d.State))
		for n, line := range d.What {
			if n == maxNamed {
				t.Line("  … and %d more", len(d.What)-n)
				break
			}
			t.Line("  %s", line)
		}
		if d.Verified != "" {
			t.paragraph("  ", "verified: "+d.Verified)
		}
	}
}

// stateInWords says how far a delivery is.
func stateInWords(s files.DeliveryState) string {
	if s.Over() {
		return string(s)
	}
	return "cut; `imbrel deliver resume` finishes it"
}
