// Package report is the frame of the forms in which results are written: what each can write, and what it is told. A form is a folder
// here
// and a line in report/forms. Forms write; what they write was worked out before.
package report

import (
	"fmt"
	"io"

	"toril/audit"
	"toril/baseline"
	"toril/changes"
	"toril/daemon"
	"toril/fix"
	"toril/follow"
	"toril/negotiate"
	"toril/observe"
	"toril/pair"
	"toril/present"
	"toril/read"
	"toril/tunnels"
)

// Version is Toril's own version.
const Version = "0.1.0"

// Form is a way to write results. A function that is nil writes nothing of its kind.
type Form struct {
	Name      string   // for --format
	Endings   []string // of the names of files that are written in it
	Audit     func(io.Writer, *Audited, Options) error
	Changes   func(io.Writer, *changes.Diff, Options) error
	Tunnels   func(io.Writer, *pair.Whole, []tunnels.View, Options) error
	Fixes     func(io.Writer, []*fix.Fix, Options) error
	Observed  func(io.Writer, *Observed, Options) error
	Ends      func(io.Writer, *pair.Whole, []negotiate.Compared, Options) error
	Follow    func(io.Writer, *pair.Whole, Asked, []*follow.Trip, Options) error
	Documents func(w io.Writer, kind string, all []present.Document, o Options) error // of a kind: "sheet", "keys"
	Checks    func(io.Writer, []*audit.Check, []*baseline.Baseline, Options) error
	Baselines func(io.Writer, []*baseline.Baseline, Options) error
	Formats   func(io.Writer, []*read.Format, Options) error
	Daemons   func(io.Writer, []*daemon.Known, Options) error
	Defaults  func(w io.Writer, k *daemon.Known, version string, o Options) error
}

// Options are what a form is told beside the results; each form heeds what concerns it.
type Options struct {
	Look
	Least           audit.Severity // findings below it are counted and not shown
	FailOn          audit.Severity // the lowest severity that is a failure
	CertainOnly     bool           // what is only possible is none
	All             bool           // nothing is left out or folded
	OnlyDifferences bool           // settings that fit each other are left out
}

// Audited is an audit, with what some forms show beside its result.
type Audited struct {
	*audit.Result
	Checks []*audit.Check // that were asked
	// More works out what the result does not hold, the first time that it is asked for; most forms do not ask.
	More func() (*More, error)
}

// More is what a page shows beside findings: of every tunnel, by its number, and of every gateway.
type More struct {
	Views    []tunnels.View // both ends side by side, with marks
	Attempts [][]negotiate.Attempt
	Ways     []GatewayWays           // by gateway
	Place    func(follow.Way) string // of what decided, as "path:line:column"
}

// GatewayWays is what becomes of the packets of a gateway's networks.
type GatewayWays struct {
	Gateway string
	Ways    []follow.Way
	Left    int // parts that were left out
}

// Observed is what saved status shows, beside what is found in it.
type Observed struct {
	*audit.Result
	Views []observe.View
	Loose []observe.Loose // what is of no connection that a file configures
}

// Predicted says what becomes of a view's tunnel by the configurations.
func (o *Observed) Predicted(v observe.View) string {
	for _, t := range o.Tunnels {
		if t.Name == v.Tunnel.Name {
			return t.Says()
		}
	}
	return ""
}

// Look says how text is laid out.
type Look struct {
	Width int  // columns; 0 means 100
	Color bool // escape sequences for colour are allowed
}

// Asked is a question about packets, as its reader wrote it.
type Asked struct {
	Gateway, From, To, Protocol string
	Down                        bool
}

// String writes the question without the gateway: "10.1.0.0/16 to 10.2.0.0/16, tcp 443".
func (a Asked) String() string {
	out := fmt.Sprintf("%s to %s", a.From, a.To)
	if a.Protocol != "" {
		out += ", " + a.Protocol
	}
	if a.Down {
		out += ", while no tunnel is up"
	}
	return out
}
