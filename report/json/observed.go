package json

import (
	"io"

	"toril/model"
	"toril/observe"
	"toril/report"
)

// ObservedSchema names the contract of the JSON form of observed.
const ObservedSchema = "toril-observed/1"

type countJSON struct {
	SPI     uint32 `json:"spi"` // 0: not told
	Told    bool   `json:"told"`
	Bytes   uint64 `json:"bytes"`
	Packets uint64 `json:"packets"`
}

type seenJSON struct {
	What      string    `json:"what"` // "IKE SA", or the child's name
	State     string    `json:"state"`
	Seconds   int64     `json:"age_seconds"` // 0: not told
	Suite     string    `json:"suite"`
	Otherwise string    `json:"suite_predicted"` // where it is another
	Networks  string    `json:"networks"`
	Missing   string    `json:"networks_missing"`
	In        countJSON `json:"in"`
	Out       countJSON `json:"out"`
	Words     string    `json:"words"`
	File      string    `json:"file"`
	Line      int       `json:"line"`
}

type failedJSON struct {
	When       string `json:"when"`
	Notify     string `json:"notify"`
	Sent       bool   `json:"sent"`
	What       string `json:"what"`
	Child      string `json:"child"`
	Received   string `json:"received"`
	Configured string `json:"configured"`
	Rekey      bool   `json:"rekey"`
	Times      int    `json:"times"`
	File       string `json:"file"`
	Line       int    `json:"line"`
}

type seenEndJSON struct {
	endJSON
	Told     bool         `json:"told"`
	SAs      []seenJSON   `json:"sas"`
	Failures []failedJSON `json:"failures"`
	Counters []string     `json:"counters"` // of interfaces, in words
}

// looseJSON is what is of no connection that a file configures.
type looseJSON struct {
	Gateway  string       `json:"gateway"`
	SAs      []seenJSON   `json:"sas"`
	Failures []failedJSON `json:"failures"`
	Counters []string     `json:"counters"`
}

type seenTunnelJSON struct {
	Name      string        `json:"name"`
	Predicted string        `json:"predicted"`
	Ends      []seenEndJSON `json:"ends"`
}

// observed writes what saved status shows for programs.
func observed(w io.Writer, all *report.Observed, _ report.Options) error {
	out := []seenTunnelJSON{}
	for _, v := range all.Views {
		one := seenTunnelJSON{Name: v.Tunnel.Name, Predicted: all.Predicted(v), Ends: []seenEndJSON{}}
		for _, e := range v.Ends {
			one.Ends = append(one.Ends, seenEnd(e))
		}
		out = append(out, one)
	}
	return encode(w, struct {
		Schema   string           `json:"schema"`
		Tunnels  []seenTunnelJSON `json:"tunnels"`
		Loose    []looseJSON      `json:"not_configured"`
		Findings []string         `json:"findings"` // their IDs, as in the JSON form of audit
		Errors   []errorJSON      `json:"errors"`
	}{ObservedSchema, out, looseOf(all), identities(all), errorsJSON(all.Estate.Problems)})
}

func identities(all *report.Observed) []string {
	out := []string{}
	for _, f := range all.Findings {
		out = append(out, f.ID)
	}
	return out
}

func looseOf(all *report.Observed) []looseJSON {
	out := []looseJSON{}
	for _, l := range all.Loose {
		out = append(out, looseJSON{l.Gateway, seenRows(l.Rows), failuresOf(l.Failures), emptied(l.Counters)})
	}
	return out
}

func seenEnd(e observe.EndView) seenEndJSON {
	return seenEndJSON{endJSON{e.Gateway.Name, e.Connection.Name}, e.Told, seenRows(e.Rows), failuresOf(e.Failures), emptied(e.Counters)}
}

func seenRows(rows []observe.Row) []seenJSON {
	out := []seenJSON{}
	for _, r := range rows {
		out = append(out, seenJSON{
			r.What, r.State, int64(r.Age.Seconds()), r.Suite, r.Otherwise, r.Networks, r.Missing, countOf(r.In), countOf(r.Out), r.Words,
			r.At.File, r.At.Line,
		})
	}
	return out
}

func failuresOf(fs []*model.Failure) []failedJSON {
	out := []failedJSON{}
	for _, f := range fs {
		out = append(out, failedJSON{
			f.When, f.Notify, f.Sent, f.What, f.Child, f.Received, f.Configured, f.Rekey, f.Times, f.At.File, f.At.Line,
		})
	}
	return out
}

func countOf(c model.Counter) countJSON { return countJSON{c.SPI, c.Told, c.Bytes, c.Packets} }
