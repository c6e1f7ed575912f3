//go:build !linux

package live

import (
	"context"
	"errors"
	"net/netip"
	"os"
	"os/exec"
	"time"

	"imbrel.example/imbrel/core/linetest"
)

var errLinux = errors.New("this command needs Linux; `imbrel --help` shows in its first groups which commands run here")

// RunGate says that there is no gate on this system.
func RunGate(context.Context, Config) (*Report, error) { return nil, errLinux }

// Ask says so too.
func Ask(string, string) ([]byte, error) { return nil, errLinux }

// Answer says so too.
func Answer(context.Context, AnswerConfig) error { return errLinux }

// Probe says so too.
func Probe(context.Context, ProbeConfig) (*ProbeReport, error) { return nil, errLinux }

// Stage says so too.
func Stage(context.Context, StageConfig) (*Staged, error) { return nil, errLinux }

// Call says so too.
func Call(context.Context, CallConfig) (*CallReport, error) { return nil, errLinux }

// Flood says so too.
func Flood(context.Context, FloodConfig) (*FloodReport, error) { return nil, errLinux }

// MeasureLine says so too.
func MeasureLine(context.Context, LineConfig) (*linetest.Run, error) { return nil, errLinux }

// Listen says so too.
func Listen(context.Context, string, func(time.Duration, []byte)) (uint64, error) { return 0, errLinux }

// Bypass says so too.
func Bypass([]string) error { return errLinux }

// EndBypass does nothing.
func EndBypass([]string) {}

// Inherited returns nothing.
func Inherited() *os.File { return nil }

// A Chain is not there on this system.
type Chain struct{}

// The places of a chain, which are not there.
const (
	Caller = iota
	Gates
	Far
)

// ChainGates is where gates of a chain are managed.
const ChainGates = "192.0.2.2"

// ChainPorts are the interfaces of a chain.
var ChainPorts = [3][2]string{}

// NewChain says so too.
func NewChain(netip.Prefix, netip.Prefix) (*Chain, error) { return nil, errLinux }

// Close does nothing.
func (*Chain) Close() {}

// Start says so too.
func (*Chain) Start(int, *exec.Cmd) error { return errLinux }

// Pull says so too.
func (*Chain) Pull(bool) error { return errLinux }
