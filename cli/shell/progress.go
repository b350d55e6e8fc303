package shell

import (
	"time"

	"github.com/schollz/progressbar/v3"
)

// Bar shows progress to a person who watches. It appears only after a moment, so that short work leaves no trace.
type Bar struct {
	a     *App
	title string
	start time.Time
	bar   *progressbar.ProgressBar
}

// Bar begins a bar of progress under a title.
func (a *App) Bar(title string) *Bar { return &Bar{a: a, title: title, start: time.Now()} }

// Show shows which share of the work is done. A share below zero is not known: only the words are shown then.
func (b *Bar) Show(share float64, words string) {
	if !b.a.Watched() || time.Since(b.start) < 400*time.Millisecond {
		return
	}
	if b.bar == nil {
		of := 1000
		if share < 0 {
			of = -1
		}
		b.bar = progressbar.NewOptions(of, progressbar.OptionSetWriter(b.a.Err), progressbar.OptionClearOnFinish(),
			progressbar.OptionSetWidth(30), progressbar.OptionSetPredictTime(true),
			progressbar.OptionSetDescription(b.title))
	}
	if words != "" {
		b.bar.Describe(b.title + " " + words)
	}
	if share >= 0 {
		_ = b.bar.Set(int(share * 1000)) // a bar that cannot be drawn is no reason to stop
	} else {
		_ = b.bar.Add(1)
	}
}

// Done takes the bar away.
func (b *Bar) Done() {
	if b.bar != nil {
		_ = b.bar.Finish()
	}
}
