// Package daemon is the form of what is known of an IKE daemon beside its behaviour: its versions, and what it does where its
// configuration does not say, with the source of each. daemon/<name> fills it in.
package daemon

import (
	"bytes"
	"cmp"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"

	"toril/ike"
	"toril/internal/lazy"
	"toril/model"
	"toril/source"
)

// Known is what is known of one IKE daemon.
type Known struct {
	Daemon   *model.Daemon
	Versions []string          // whose pages or programs were asked, the oldest first
	Systems  []string          // on which it does otherwise than elsewhere: "Linux"
	Defaults func() []Default  // in the order of the tables
	Sections func() []*Section // whose keywords are described; nil for none
	Own      []Own             // the proposals that it makes where none are configured

	made sync.Map // what For returned, by what it was asked
}

// Own are proposals that a daemon makes by itself.
type Own struct {
	What      string                              // "IKE", "ESP"
	Proposals func(version string) []ike.Proposal // "" is the newest version that is known
	Source    string
}

// Default is what a daemon does where one statement is not there.
type Default struct {
	File     string // the saved format: "swanctl.conf"
	Section  string // "connections.<conn>"
	Key      string
	Also     []string // further names of the key
	Value    string   // in the words of the format; "" where it is nothing
	Computed bool     // Value says in words how it follows from others
	Note     string   // what else decides
	Since    string   // the first version that does so; "" for all that are known
	Source   string
	Before   *Default // what earlier versions do
}

// Name returns section and key as people write them.
func (d Default) Name() string {
	if d.Section == "" {
		return d.Key
	}
	return d.Section + "." + d.Key
}

// Change says in a few words since when the default is what it is; "" where it always was.
func (d Default) Change() string {
	if d.Before == nil {
		return ""
	}
	return fmt.Sprintf("since %s; before: %s", d.Since, d.Before.Text())
}

// Text returns the default in words: "nothing", "1h", "1h; less where only life_time is set".
func (d Default) Text() string {
	out := cmp.Or(d.Value, "nothing")
	if d.Note != "" {
		out += "; " + d.Note
	}
	return out
}

// Table reads defaults of one section of a format, a line each: "key = value", or "key ~ how it follows from others"; a key may have
// further names behind commas; behind it, "@5.1" names the version since which it is so; behind the value, "; words" says what else
// decides, and "# page" names a source other than the table's. It is called with constants only, and panics where a line has no such
// form.
func Table(file, section, source, text string) []Default {
	var out []Default
	for line := range strings.Lines(text) {
		line, own, _ := strings.Cut(strings.TrimSpace(line), " # ")
		if line == "" {
			continue
		}
		i := strings.IndexAny(line, "=~")
		if i < 0 {
			panic("no default: " + line)
		}
		key, since, _ := strings.Cut(strings.TrimSpace(line[:i]), "@")
		names := strings.Split(key, ", ")
		var further []string
		if len(names) > 1 {
			further = names[1:]
		}
		value, note, _ := strings.Cut(strings.TrimSpace(line[i+1:]), "; ")
		out = append(
			out,
			Default{
				File:     file,
				Section:  section,
				Key:      names[0],
				Also:     further,
				Value:    value,
				Computed: line[i] == '~',
				Note:     note,
				Since:    since,
				Source:   cmp.Or(own, source),
			},
		)
	}
	return out
}

// For returns the defaults that hold in a version, the newest known where it is "", by name of one section of a file; what was so before
// stands behind each that changed, where the version was not said. The map must not be changed.
func (k *Known) For(version, file, section string) map[string]Default {
	key := [3]string{version, file, section}
	if made, ok := k.made.Load(key); ok {
		return made.(map[string]Default)
	}
	out := map[string]Default{}
	for _, d := range k.hold(version, func(d Default) bool { return d.File == file && d.Section == section }) {
		if version != "" {
			d.Before = nil
		}
		out[d.Key] = d
	}
	k.made.Store(key, out)
	return out
}

// In returns the defaults that hold in a version, in the order of the tables; "" is the newest. Each that changed has before it what
// was so.
func (k *Known) In(version string) []Default {
	return k.hold(version, func(Default) bool { return true })
}

// hold returns those of the defaults asked for that hold in a version.
func (k *Known) hold(version string, asked func(Default) bool) []Default {
	type place struct{ file, section, key string }
	at := map[place]int{}
	var out []Default
	for _, d := range k.Defaults() {
		if !asked(d) || version != "" && d.Since != "" && Compare(version, d.Since) < 0 {
			continue
		}
		p := place{d.File, d.Section, d.Key}
		if i, ok := at[p]; ok {
			before := out[i]
			d.Before = &before
			out[i] = d
			continue
		}
		at[p] = len(out)
		out = append(out, d)
	}
	return out
}

// Compare orders versions by their numbers: below zero where a is older than b.
func Compare(a, b string) int {
	return slices.CompareFunc(strings.Split(a, "."), strings.Split(b, "."), func(x, y string) int {
		n, err1 := strconv.Atoi(x)
		m, err2 := strconv.Atoi(y)
		if err1 != nil || err2 != nil {
			return strings.Compare(x, y)
		}
		return cmp.Compare(n, m)
	})
}

// Find returns the daemon of a name, small and capital letters alike; nil where none is known by it.
func Find(all []*Known, name string) *Known {
	for _, k := range all {
		if strings.EqualFold(k.Daemon.Name, name) {
			return k
		}
	}
	return nil
}

// IsVersion reports whether a text is a version: numbers with dots between them.
func IsVersion(text string) bool { return isVersion(text) }

var (
	isVersion = lazy.Match(`^[0-9]{1,4}(\.[0-9]{1,4}){1,3}$`)
	// said is how a comment that says nothing else names a program and its version: "# strongSwan 5.9.8", "# Libreswan U4.10/K6.1",
	// "# made by openiked (7.4)"
	said = lazy.Regexp(`(?mi)^[ \t]*#[ \t]*(?:(?:made|generated|written)[ \t]+by[ \t]+)?(?:linux[ \t]+)?(strongswan|libreswan|openiked)` +
		`(?:[ \t]+version)?[ \t:/(]+[vu]?([0-9]{1,4}(?:\.[0-9]{1,4}){1,3})(?:[-+~/][^ \t\n]*)?\)?[ \t.]*\r?$`)
)

// VersionIn returns the version of a daemon that a comment in a file names; ok is false where none does. A comment that says more is none:
// it may be of times past, or of a sample ("Libreswan 4.0 configuration file" is at the head of 4.10's).
func VersionIn(f *source.File, software string) (v model.Version, ok bool) {
	head := f.Head()
	for at, seen := 0, 0; seen < 16; {
		sign := bytes.IndexByte(head[at:], '#')
		if sign < 0 {
			break
		}
		begin := 1 + bytes.LastIndexByte(head[:at+sign], '\n') // of the line
		end := len(head)
		if n := bytes.IndexByte(head[at+sign:], '\n'); n >= 0 {
			end = at + sign + n
		}
		if m := said().FindSubmatchIndex(head[begin:end]); m != nil {
			seen++
			if name := string(head[begin+m[2] : begin+m[3]]); strings.EqualFold(name, software) {
				number := string(head[begin+m[4] : begin+m[5]])
				return model.Version{Software: software, Number: number, At: f.At(f.LineAt(begin + m[2]))}, true
			}
		}
		if at = end + 1; at >= len(head) {
			break
		}
	}
	return v, false
}

// Once makes tables when they are first asked for.
func Once(tables func() [][]Default) func() []Default {
	return sync.OnceValue(func() []Default { return slices.Concat(tables()...) })
}
