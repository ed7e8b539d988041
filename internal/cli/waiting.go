package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"toril/internal/progress"
	"toril/present"
)

// quick is how long work may take without a word, and tick how often the word is written anew after that.
const quick, tick = 900 * time.Millisecond, 150 * time.Millisecond

// waiting runs the command; where that takes long and standard error is a terminal, it says meanwhile how far it is, in one line that
// is gone before anything else is written there.
func (a *app) waiting(ctx context.Context, to io.Writer, root *cobra.Command) error {
	f, ok := to.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) || os.Getenv("TERM") == "dumb" {
		return a.execute(ctx, root)
	}
	ctx, counts := progress.With(ctx)
	stop, done := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(done)
		tell(f, counts, stop)
	}()
	a.quiet = func() {
		select {
		case <-stop:
		default:
			close(stop)
			<-done
		}
	}
	defer a.quiet()
	return a.execute(ctx, root)
}

// tell writes how far the work is until it is told to stop, and wipes the line.
func tell(to io.Writer, counts *progress.Counts, stop <-chan struct{}) {
	begun := time.Now()
	select {
	case <-stop:
		return
	case <-time.After(quick):
	}
	ticks := time.NewTicker(tick)
	defer ticks.Stop()
	for {
		fmt.Fprintf(to, "\r\x1b[K%s", far(counts, time.Since(begun)))
		select {
		case <-stop:
			fmt.Fprint(to, "\r\x1b[K")
			return
		case <-ticks.C:
		}
	}
}

// far says in words how far the work is, and about how long it will still take.
func far(c *progress.Counts, since time.Duration) string {
	out := "reading: " + present.Plural(int(c.Files.Load()), "file")
	of, done := c.WorkOf.Load(), c.Work.Load()
	if of == 0 {
		return out
	}
	out = fmt.Sprintf("judging: %d of %d gateways and tunnels, %s, %s so far", done, of, present.Plural(int(c.Tunnels.Load()), "tunnel"),
		present.Plural(int(c.Findings.Load()), "finding"))
	if done > 0 && done < of {
		left := time.Duration(float64(since) / float64(done) * float64(of-done))
		out += ", about " + present.Span(left.Round(time.Second)) + " left"
	}
	return out
}
