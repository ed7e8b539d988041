package fix

import (
	"fmt"
	"slices"
	"strings"

	"toril/audit"
	"toril/baseline"
	"toril/daemon/known"
	"toril/model"
	"toril/model/settings"
	"toril/pair"
	"toril/source"
)

// Case is a finding with what it is about, in the estate as it stands.
type Case struct {
	Finding  *audit.Finding
	Check    *audit.Check // that found it
	Whole    *pair.Whole
	Gateway  *model.Gateway
	Tunnel   *pair.Tunnel // nil for a finding about a gateway alone
	End, Far pair.End     // Far has no gateway where the far end was not given
	Child    *model.Child // of End; nil for none
	Baseline *baseline.Baseline

	unwritten string // why some change could not be written
}

func (s *Session) caseOf(f *audit.Finding) *Case {
	c := &Case{Finding: f, Check: s.checkOf(f), Whole: s.now.whole, Gateway: s.now.whole.Gateway(f.Gateway), Baseline: s.Baseline}
	for _, t := range s.now.whole.Tunnels {
		if t.Name != f.Tunnel {
			continue
		}
		c.Tunnel = t
		for _, e := range t.Ends {
			if e.Gateway.Name != f.Gateway || f.Connection != "" && e.Connection.Name != f.Connection {
				continue
			}
			c.End = e
			c.Far, _ = t.Far(e)
			for _, k := range e.Connection.Children {
				if k.Name == f.Child {
					c.Child = k
				}
			}
		}
	}
	if c.End.Gateway == nil {
		c.Tunnel = nil
	} else {
		c.Baseline = s.Baseline.For(c.Gateway.Name, c.End.Connection.Name)
		if c.Far.Gateway != nil {
			c.Baseline = s.Baseline.For(c.Gateway.Name, c.End.Connection.Name, c.Far.Gateway.Name)
		}
	}
	return c
}

func (s *Session) checkOf(f *audit.Finding) *audit.Check {
	if i := slices.IndexFunc(s.Checks, func(c *audit.Check) bool { return c.Name == f.Check }); i >= 0 {
		return s.Checks[i]
	}
	return &audit.Check{Name: f.Check}
}

// mate is the far child that means the case's; nil for none.
func (c *Case) mate() *model.Child {
	if c.Child == nil || c.Far.Gateway == nil {
		return nil
	}
	if ks := c.Tunnel.Counterparts(c.Child); len(ks) == 1 {
		return ks[0]
	}
	return nil
}

// set is a setting of an end, or of a child of it, and what it is to be.
type set struct {
	end     pair.End
	child   *model.Child
	setting *settings.Row
	value   any // of the type that the setting takes
}

// to sets a setting of an end, or of a child of it.
func to[T any](end pair.End, k *model.Child, s settings.Setting[T], v T) set {
	return set{end, k, s.Row, v}
}

// change makes one change of settings; each is written in the words of the file that it stands in.
func (c *Case) change(says string, sets ...set) (Change, error) {
	out := Change{Says: says}
	for _, x := range sets {
		w, err := c.writerOf(x.end.Gateway, x.end.Connection.At)
		if err != nil {
			return out, err
		}
		edits, err := w.set(x)
		if err != nil {
			return out, err
		}
		out.Edits = append(out.Edits, edits...)
	}
	return out, nil
}

// writer writes settings into one format.
type writer interface {
	set(x set) ([]Edit, error)
}

// writerOf returns the writer of the file in which a connection of a gateway stands.
func (c *Case) writerOf(g *model.Gateway, at source.Pos) (writer, error) {
	f := g.File(at.File)
	if f == nil {
		return nil, fmt.Errorf("the file of %s's connection is not known", g.Name)
	}
	if all := known.Writes(f.Format); len(all) > 0 {
		w := keyed{g: g, format: all[0].File, sections: all, layout: byMargin{}}
		if f.Format == "swanctl.conf" {
			w.layout = inBraces{}
		}
		return w, nil
	}
	if format := c.Whole.Format(g, f.Format); format != nil && format.Taught {
		return phrased{g, format.Vocabulary}, nil
	}
	return nil, fmt.Errorf("the format of %[2]s, %[1]s, is not one that Toril writes", f.Format, f.Path)
}

// valueOf returns the part of a statement behind its equals sign, without blanks around it.
func valueOf(f *model.File, at source.Pos) (source.Range, bool) {
	r := f.Range(at)
	text := string(f.Bytes()[r.Start:r.End])
	i := strings.IndexByte(text, '=')
	if i < 0 {
		return r, false
	}
	start := i + 1 + len(text[i+1:]) - len(strings.TrimLeft(text[i+1:], " \t"))
	end := len(strings.TrimRight(text, " \t\r\n;"))
	if end < start {
		return r, false
	}
	return source.Range{Start: r.Start + start, End: r.Start + end}, true
}

// behind makes an edit that puts a line behind another, indented as what follows that, or a step deeper than it.
func behind(f *model.File, line int, step, text string) Edit {
	indent := leading(f.Line(line)) + step
	for n := line + 1; n <= f.Lines() && n <= line+3; n++ {
		if next := f.Line(n); strings.TrimSpace(next) != "" {
			if len(leading(next)) > len(leading(f.Line(line))) {
				indent = leading(next)
			}
			break
		}
	}
	last, at := line >= f.Lines(), f.Start(line+1)
	text = indent + text + eol(f, line)
	if last && !strings.HasSuffix(string(f.Bytes()), "\n") {
		text = eol(f, line) + strings.TrimRight(text, "\r\n")
	}
	return Edit{File: f.Path, Range: source.Range{Start: at, End: at}, Text: text}
}

// before makes an edit that puts a line before another, indented as that.
func before(f *model.File, line int, text string) Edit {
	at := f.Start(line)
	return Edit{File: f.Path, Range: source.Range{Start: at, End: at}, Text: leading(f.Line(line)) + text + eol(f, line)}
}

// without makes an edit that takes lines out.
func without(f *model.File, first, last int) Edit {
	return Edit{File: f.Path, Range: source.Range{Start: f.Start(first), End: f.Start(last + 1)}}
}

// eol is how a line of the file ends.
func eol(f *model.File, line int) string {
	if f.Returned(line) {
		return "\r\n"
	}
	return "\n"
}

func leading(line string) string { return line[:len(line)-len(strings.TrimLeft(line, " \t"))] }
