package cli

import (
	"os"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
	"golang.org/x/term"
)

// progressAfter is how long something takes before its progress is shown.
const progressAfter = time.Second

// progress shows a bar with bytes, rate and time left on stderr, for what takes longer than progressAfter, and only on a terminal.
func (a *app) progress() func(what string, done, total int64) {
	f, ok := a.Stderr.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return nil
	}
	var bars *mpb.Progress
	var bar *mpb.Bar
	var current string
	var began time.Time
	return func(what string, done, total int64) {
		if what != current {
			current, began = what, a.Now()
			if bar != nil {
				bar.Abort(true)
				bars.Wait()
				bar = nil
			}
		}
		if bar == nil {
			if a.Now().Sub(began) < progressAfter || done >= total {
				return
			}
			bars = mpb.New(mpb.WithOutput(f), mpb.WithWidth(40))
			bar = bars.AddBar(total, mpb.BarRemoveOnComplete(),
				mpb.PrependDecorators(decor.Name(what+" "), decor.CountersKiloByte("% .1f of % .1f")),
				mpb.AppendDecorators(decor.AverageSpeed(decor.SizeB1000(0), "% .1f"), decor.Name("  "), decor.AverageETA(decor.ET_STYLE_GO)))
		}
		bar.SetTotal(total, false) // more may have come to be done
		bar.SetCurrent(done)
		if done >= total {
			bars.Wait()
			bar = nil
		}
	}
}
