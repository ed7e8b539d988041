package fix

import (
	"bytes"
	"fmt"
	"strings"

	"toril/source"
)

// around is how many lines a diff shows around what changes.
const around = 3

// Unified returns the difference of a file and its edited text as a unified diff, whose paths are the file's. Around what changes it shows
// up to three lines, and none that holds a secret; a diff with fewer lines around it applies as well.
func Unified(f *source.File, edited []byte) string {
	old, now := lines(f.Bytes()), lines(edited)
	ops := align(old, now)
	var b strings.Builder
	fmt.Fprintf(&b, "--- %s\n+++ %s\n", nameIn("a", f.Path), nameIn("b", f.Path))
	for i := 0; i < len(ops); {
		if ops[i].same() {
			i++
			continue
		}
		j := i // the end of the hunk: changes less than two contexts apart are of one
		for k, quiet := i, 0; k < len(ops) && quiet <= 2*around; k++ {
			if quiet++; !ops[k].same() {
				quiet, j = 0, k+1
			} else if !shown(f, ops[k]) {
				break
			}
		}
		from, to := i, j
		for n := 0; n < around && from > 0 && shown(f, ops[from-1]); n++ {
			from--
		}
		for n := 0; n < around && to < len(ops) && shown(f, ops[to]); n++ {
			to++
		}
		// programs that apply a diff take one with less on one side for the beginning or the end of the file
		if lead, trail := i-from, to-j; lead < trail && from > 0 {
			to = j + lead
		} else if trail < lead && to < len(ops) {
			from = i - trail
		}
		hunk(&b, ops[from:to], old, now)
		i = to
	}
	return b.String()
}

// nameIn is a path below a folder as patch(1) and git apply read it: one with a blank ends with a tab, one with characters that a line
// cannot hold is put in quotation marks, with escapes as in C.
func nameIn(folder, path string) string {
	path = folder + "/" + strings.TrimLeft(path, "/")
	if source.Clean(path) == path && !strings.ContainsAny(path, "\"\\") {
		if strings.Contains(path, " ") {
			return path + "\t"
		}
		return path
	}
	var b strings.Builder
	for _, c := range []byte(path) {
		switch {
		case c == '"' || c == '\\':
			b.WriteString("\\" + string(rune(c)))
		case c < ' ' || c >= 0x7f:
			fmt.Fprintf(&b, "\\%03o", c)
		default:
			b.WriteByte(c)
		}
	}
	return `"` + b.String() + `"`
}

// op is a line of both texts, by their numbers from 0, or of one: the other is -1.
type op struct{ old, now, atOld, atNow int }

func (o op) same() bool { return o.old >= 0 && o.now >= 0 }

// shown reports whether a line that does not change may be shown beside what does.
func shown(f *source.File, o op) bool {
	return o.same() && !secret(f, o.old+1)
}

// secret reports whether a line of a file holds a secret: one that is known, or one that a comment announces ("password: …"). A diff shows
// comments, which quotes do not.
func secret(f *source.File, line int) bool {
	quote := f.Quote(f.At(line))
	if strings.Contains(quote, source.MaskComment) {
		bare := source.NewFile(f.Path, []byte(f.Line(line))) // of no format, so that nothing in it is a comment
		quote += bare.Quote(bare.At(1))
	}
	return strings.Contains(quote, source.Mask)
}

// reveals reports whether a diff of a file and its edited text would show a secret.
func reveals(f *source.File, edited []byte) bool {
	for _, o := range align(lines(f.Bytes()), lines(edited)) {
		if o.now < 0 && secret(f, o.old+1) {
			return true
		}
	}
	return false
}

// align pairs the lines of two texts: what is equal at the beginning and at the end, and in between the longest common part as far as that
// is cheap, else all of the one for all of the other.
func align(old, now []string) []op {
	head := 0
	for head < len(old) && head < len(now) && old[head] == now[head] {
		head++
	}
	tail := 0
	for tail < len(old)-head && tail < len(now)-head && old[len(old)-1-tail] == now[len(now)-1-tail] {
		tail++
	}
	a, b := old[head:len(old)-tail], now[head:len(now)-tail]
	var out []op
	for i := range head {
		out = append(out, op{i, i, i, i})
	}
	for _, o := range middle(a, b) {
		o.atOld, o.atNow = o.atOld+head, o.atNow+head
		if o.old >= 0 {
			o.old += head
		}
		if o.now >= 0 {
			o.now += head
		}
		out = append(out, o)
	}
	for i := range tail {
		x, y := len(old)-tail+i, len(now)-tail+i
		out = append(out, op{x, y, x, y})
	}
	return out
}

// most bounds the work of the longest common part.
const most = 4_000_000

func middle(a, b []string) []op {
	var out []op
	i, j := 0, 0
	if len(a)*len(b) <= most {
		length := make([][]int32, len(a)+1)
		for i := range length {
			length[i] = make([]int32, len(b)+1)
		}
		for i := len(a) - 1; i >= 0; i-- {
			for j := len(b) - 1; j >= 0; j-- {
				if a[i] == b[j] {
					length[i][j] = length[i+1][j+1] + 1
				} else {
					length[i][j] = max(length[i+1][j], length[i][j+1])
				}
			}
		}
		for i < len(a) && j < len(b) {
			switch {
			case a[i] == b[j]:
				out = append(out, op{i, j, i, j})
				i, j = i+1, j+1
			case length[i+1][j] >= length[i][j+1]:
				out = append(out, op{i, -1, i, j})
				i++
			default:
				out = append(out, op{-1, j, i, j})
				j++
			}
		}
	}
	for ; i < len(a); i++ {
		out = append(out, op{i, -1, i, j})
	}
	for ; j < len(b); j++ {
		out = append(out, op{-1, j, i, j})
	}
	return out
}

func hunk(b *strings.Builder, ops []op, old, now []string) {
	removed, added := 0, 0
	for _, o := range ops {
		if o.old >= 0 {
			removed++
		}
		if o.now >= 0 {
			added++
		}
	}
	fmt.Fprintf(b, "@@ -%s +%s @@\n", span(ops[0].atOld, removed), span(ops[0].atNow, added))
	for _, o := range ops {
		switch {
		case o.same():
			write(b, ' ', old[o.old])
		case o.old >= 0:
			write(b, '-', old[o.old])
		default:
			write(b, '+', now[o.now])
		}
	}
}

// span writes where a hunk is: a part of no lines stands behind the line that it names.
func span(at, n int) string {
	if n == 0 {
		return fmt.Sprintf("%d,0", at)
	}
	return fmt.Sprintf("%d,%d", at+1, n)
}

func write(b *strings.Builder, sign byte, line string) {
	b.WriteByte(sign)
	b.WriteString(line)
	if !strings.HasSuffix(line, "\n") {
		b.WriteString("\n\\ No newline at end of file\n")
	}
}

func lines(text []byte) []string {
	var out []string
	for l := range bytes.Lines(text) {
		out = append(out, string(l))
	}
	return out
}
