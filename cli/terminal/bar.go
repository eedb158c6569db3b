package terminal

import (
	"os"
	"time"

	"github.com/jedib0t/go-pretty/v6/progress"
	"golang.org/x/term"
)

// Bar shows on a terminal how far long work is.
type Bar struct {
	w progress.Writer
	t *progress.Tracker
}

// Bar begins a bar of so many bytes; where standard error is no terminal it shows nothing.
func (p *Program) Bar(what string, all int64) *Bar {
	f, ok := p.Err.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return &Bar{}
	}
	w := progress.NewWriter()
	w.SetOutputWriter(f)
	w.SetAutoStop(true)
	w.SetStyle(progress.StyleBlocks)
	t := &progress.Tracker{Message: what, Total: all, Units: progress.UnitsBytes}
	w.AppendTracker(t)
	go w.Render() // ends when its tracker is done
	return &Bar{w, t}
}

// Set says how many bytes are there, and of how many, where that is known.
func (b *Bar) Set(have, all int64) {
	if b.t != nil {
		if all > 0 {
			b.t.UpdateTotal(all)
		}
		b.t.SetValue(have)
	}
}

// Done ends the bar, as failed where there is an error.
func (b *Bar) Done(err error) {
	if b.t == nil {
		return
	}
	if err != nil {
		b.t.MarkAsErrored()
	} else {
		b.t.MarkAsDone()
	}
	for range 50 {
		if !b.w.IsRenderInProgress() {
			return
		}
		time.Sleep(10 * time.Millisecond)
	}
	b.w.Stop()
}
