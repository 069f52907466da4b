package cli

import (
	"fmt"
	"time"

	"bagaglio/core/step"

	"github.com/schollz/progressbar/v3"
)

// watcher shows the progress of a job: a bar where somebody looks, otherwise plain lines.
func (a *app) watcher() func(step.Progress) {
	if isTerminal(a.notes) {
		return a.bar()
	}
	const every = 10 * time.Second
	begun, last := "", time.Time{}
	return func(p step.Progress) {
		switch {
		case p.Step != begun:
			a.remark("Step %d of %d: %s", p.Number, p.Steps, p.Title)
		case time.Since(last) > every && p.Total > 0 && p.SecondsLeft != nil:
			a.remark(
				"  %s of %s (%d %%), %s/s, %s left",
				size(p.Done),
				size(p.Total),
				100*p.Done/p.Total,
				size(int64(p.Average)),
				span(*p.SecondsLeft),
			)
		default:
			return
		}
		begun, last = p.Step, time.Now()
	}
}

func (a *app) bar() func(step.Progress) {
	var bar *progressbar.ProgressBar
	begun := ""
	return func(p step.Progress) {
		if p.Step != begun {
			if bar != nil {
				_ = bar.Finish() // a bar that cannot be drawn stops nothing
				a.remark("")
			}
			begun = p.Step
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
