package cli

import (
	"fmt"
	"time"

	"bagaglio/core/job"

	"github.com/schollz/progressbar/v3"
)

// watcher shows the progress of a job: a bar where somebody looks, otherwise plain lines.
func (a *app) watcher() func(job.Progress) {
	if isTerminal(a.notes) {
		return a.bar()
	}
	const every = 10 * time.Second
	step, last := "", time.Time{}
	return func(p job.Progress) {
		switch {
		case p.Step != step:
			a.remark("Step %d of %d: %s", p.Number, p.Steps, p.Title)
		case time.Since(last) > every && p.Total > 0:
			a.remark(
				"  %s of %s (%d %%), %s/s, %s left",
				size(p.Done),
				size(p.Total),
				100*p.Done/p.Total,
				size(int64(p.Average)),
				span(p.SecondsLeft),
			)
		default:
			return
		}
		step, last = p.Step, time.Now()
	}
}

func (a *app) bar() func(job.Progress) {
	var bar *progressbar.ProgressBar
	step := ""
	return func(p job.Progress) {
		if p.Step != step {
			if bar != nil {
				_ = bar.Finish() // a bar that cannot be drawn stops nothing
				a.remark("")
			}
			step = p.Step
			bar = nil
			title := fmt.Sprintf("%d/%d %-7s", p.Number, p.Steps, p.Step)
			if p.Total == 0 {
				a.remark("%s %s", title, p.Title)
				return
			}
			bar = progressbar.NewOptions64(
				p.Total,
				progressbar.OptionSetWriter(a.notes),
				progressbar.OptionSetDescription(title),
				progressbar.OptionShowBytes(true),
				progressbar.OptionUseIECUnits(
					true,
				),
				progressbar.OptionSetWidth(30),
				progressbar.OptionShowCount(),
				progressbar.OptionSetPredictTime(true),
			)
		}
		if bar != nil {
			_ = bar.Set64(min(p.Done, p.Total))
			if p.Done >= p.Total {
				a.remark("")
				bar = nil
			}
		}
	}
}
