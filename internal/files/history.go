package files

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"go.etcd.io/bbolt"
	bolterrors "go.etcd.io/bbolt/errors"
)

// A Delivery is what was brought to devices, or was to be.
type Delivery struct {
	ID       uint64           `json:"id"`
	At       time.Time        `json:"at"`
	By       string           `json:"by"`
	File     string           `json:"file"`
	Hash     string           `json:"hash"`           // of the policy file
	Back     uint64           `json:"back,omitempty"` // the delivery that it takes back
	What     []string         `json:"what"`           // in words
	Together bool             `json:"together"`
	Verified string           `json:"verified"` // how, and with what result
	State    DeliveryState    `json:"state"`
	Devices  []DeliveryDevice `json:"devices"`
}

// A DeliveryState is how far a delivery is.
type DeliveryState string

// The states of a delivery. One in another state than Done, InPart or TakenBack was cut.
const (
	Begun     DeliveryState = "begun"
	Decided   DeliveryState = "decided" // the first device is about to be confirmed
	Returning DeliveryState = "returning"
	Done      DeliveryState = "done"
	InPart    DeliveryState = "in part" // waves before the one that failed
	TakenBack DeliveryState = "taken back"
)

// Over reports whether a delivery in this state has ended.
func (s DeliveryState) Over() bool { return s == Done || s == InPart || s == TakenBack }

// A DeliveryDevice is a device of a delivery: what it had and what it was to have, as XML.
type DeliveryDevice struct {
	Node    string `json:"node"`
	Address string `json:"address"`
	Before  string `json:"before"`
	After   string `json:"after"`
	State   string `json:"state"`
	Saved   bool   `json:"saved"`
	Why     string `json:"why,omitempty"`
}

// A History keeps what was delivered, in a database. One program has it at a time.
type History struct{ db *bbolt.DB }

var (
	deliveriesBucket = []byte("deliveries")
	hostKeysBucket   = []byte("host keys")
)

// OpenHistory opens a history, which is made when there is none.
func OpenHistory(name string) (*History, error) {
	db, err := bbolt.Open(name, 0o600, &bbolt.Options{Timeout: 2 * time.Second})
	switch {
	case errors.Is(err, bolterrors.ErrTimeout):
		return nil, fmt.Errorf("another delivery has the history %s open: wait until it ends", name)
	case err != nil:
		return nil, fmt.Errorf("the history %s cannot be opened: %w", name, inWords(name, err))
	}
	err = db.Update(func(tx *bbolt.Tx) error {
		for _, b := range [][]byte{deliveriesBucket, hostKeysBucket} {
			if _, err := tx.CreateBucketIfNotExists(b); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		db.Close()
		return nil, fmt.Errorf("the history %s cannot be written: %w", name, err)
	}
	return &History{db}, nil
}

// Close closes it.
func (h *History) Close() error { return h.db.Close() }

// Put keeps a delivery; one without a number gets the next.
func (h *History) Put(d *Delivery) error {
	err := h.db.Update(func(tx *bbolt.Tx) error {
		b := tx.Bucket(deliveriesBucket)
		if d.ID == 0 {
			n, err := b.NextSequence()
			if err != nil {
				return err
			}
			d.ID = n
		}
		text, err := json.Marshal(d)
		if err != nil {
			return err
		}
		return b.Put(number(d.ID), text)
	})
	if err != nil {
		return fmt.Errorf("the history cannot be written: %w", err)
	}
	return nil
}

func number(id uint64) []byte { return binary.BigEndian.AppendUint64(nil, id) }

// All returns all deliveries, the last first.
func (h *History) All() (out []Delivery, err error) {
	err = h.db.View(func(tx *bbolt.Tx) error {
		c := tx.Bucket(deliveriesBucket).Cursor()
		for k, text := c.Last(); k != nil; k, text = c.Prev() {
			var d Delivery
			if err := json.Unmarshal(text, &d); err != nil {
				return fmt.Errorf("the delivery %d of the history cannot be read: %w", binary.BigEndian.Uint64(k), err)
			}
			out = append(out, d)
		}
		return nil
	})
	return out, err
}

// HostKey returns the fingerprint of the key that a device had when it was reached first, or "".
func (h *History) HostKey(address string) (fingerprint string, err error) {
	err = h.db.View(func(tx *bbolt.Tx) error {
		fingerprint = string(tx.Bucket(hostKeysBucket).Get([]byte(address)))
		return nil
	})
	return fingerprint, err
}

// KeepHostKey keeps the fingerprint of a device's key.
func (h *History) KeepHostKey(address, fingerprint string) error {
	return h.db.Update(func(tx *bbolt.Tx) error {
		return tx.Bucket(hostKeysBucket).Put([]byte(address), []byte(fingerprint))
	})
}
