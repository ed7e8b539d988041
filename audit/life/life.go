// Package life holds the checks of lifetimes: how long keys are used, and whether anything ends them.
package life

import (
	"fmt"
	"time"

	"toril/present"
)

// mistaken reports what a number of seconds looks like if the writer counted in another unit: 480 and 1440 are minutes
// of 8 and 24 hours; 86400 and more, times sixty, are seconds where minutes were meant.
func mistaken(d time.Duration) string {
	switch {
	case d == 480*time.Second || d == 1440*time.Second || d == 60*time.Second:
		return fmt.Sprintf("%.0f seconds look like %s written in minutes", d.Seconds(), present.Span(d*60))
	case d == 86400*time.Minute || d == 28800*time.Minute || d == 3600*time.Minute:
		return fmt.Sprintf("%.0f minutes look like %s written in seconds", d.Minutes(), present.Span(d/60))
	case d == 24*time.Second || d == 8*time.Second:
		return fmt.Sprintf("%.0f seconds look like %.0f hours", d.Seconds(), d.Seconds())
	}
	return ""
}
