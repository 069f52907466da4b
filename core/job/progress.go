package job

import (
	"sync"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/transfer"
)

// Progress tells how far a job is. Bytes are of real data, not of virtual size.
type Progress struct {
	Step    string  `json:"step"`
	Title   string  `json:"title"`
	Number  int     `json:"number"` // of the step, from 1
	Steps   int     `json:"steps"`
	Done    int64   `json:"done"`  // bytes, in this step
	Total   int64   `json:"total"` // bytes, in this step; 0 when it is no matter of bytes
	Speed   float64 `json:"speed"`
	Average float64 `json:"average"` // bytes a second, now and since the step began
	// SecondsLeft is for all steps that go through bytes; below 0 while nothing can be said.
	SecondsLeft float64   `json:"seconds_left"`
	Since       time.Time `json:"since"` // when the step began
}

// interval is the time between two reports of one step.
const interval = 200 * time.Millisecond

// reporter calls watch when a step begins and ends, and at an interval between.
type reporter struct {
	steps []plan.Step
	watch func(Progress)
	done  []Done
}

// run does one step and notes what it took. meter may be nil.
func (r *reporter) run(name string, meter *transfer.Meter, do func() error) error {
	number := 0
	for number < len(r.steps) && r.steps[number].Name != name {
		number++
	}
	step := r.steps[number]
	p := Progress{Step: name, Title: step.Title, Number: number + 1, Steps: len(r.steps), Total: step.Bytes, SecondsLeft: -1, Since: time.Now()}
	tell := func(every time.Duration) {
		if meter != nil {
			done, elapsed := meter.Read.Load(), time.Since(p.Since).Seconds()
			p.Speed = float64(done-p.Done) / every.Seconds()
			p.Done, p.Average = done, float64(done)/elapsed
			if left := r.after(number) + step.Bytes - done; p.Average > 0 {
				p.SecondsLeft = float64(left) / p.Average
			}
		}
		r.watch(p)
	}
	r.watch(p)
	stop := make(chan struct{})
	var ticking sync.WaitGroup
	ticking.Go(func() {
		tick := time.NewTicker(interval)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				tell(interval)
			case <-stop:
				return
			}
		}
	})
	err := do()
	close(stop)
	ticking.Wait()
	d := Done{Name: name, Title: step.Title, Seconds: time.Since(p.Since).Seconds()}
	if meter != nil {
		tell(max(time.Since(p.Since)%interval, time.Millisecond))
		d.Bytes = meter.Read.Load()
		d.BytesPerSecond = float64(d.Bytes) / max(d.Seconds, 1e-9)
	}
	r.done = append(r.done, d)
	return err
}

// after is how many bytes go through the steps behind the given one.
func (r *reporter) after(number int) (bytes int64) {
	for _, s := range r.steps[number+1:] {
		bytes += s.Bytes
	}
	return bytes
}
