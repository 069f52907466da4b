package step

import (
	"slices"
	"sync"
	"time"

	"bagaglio/core/fingerprint"
	"bagaglio/core/plan"
	"bagaglio/core/receipt"
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
	// SecondsLeft is for all steps that go through bytes; nil while nothing can be said.
	SecondsLeft *float64  `json:"seconds_left,omitempty"`
	Since       time.Time `json:"since"` // when the step began
	// LimitedBy is what most of the time goes to, empty while nothing can be said.
	LimitedBy string `json:"limited_by,omitempty"`
	// Strip is the disk from its first to its last byte, a letter for each part: '.' is still to come, 'e' holds nothing but zeros, 'd'
	// was copied, 'p' was read back from storage, 'x' could not be read.
	Strip string `json:"strip,omitempty"`
	// Disks are the strips of the disks that were begun so far, where the job has several; of many the last ones.
	Disks []DiskStrip `json:"disks,omitempty"`
	// Speeds are averages over SpeedSeconds each, in bytes a second, since the job began.
	Speeds       []float64 `json:"speeds,omitempty"`
	SpeedSeconds float64   `json:"speed_seconds,omitempty"`
	// Passes are the last ones in which was copied what a machine writes that runs, and Stop is how many seconds what is left may take to copy when it is shut down; 0 for any
	// other work.
	Passes []Pass `json:"passes,omitempty"`
	Stop   int    `json:"stop,omitempty"`
}

// DiskStrip is the strip of one of several disks.
type DiskStrip struct {
	Disk  plan.Place `json:"disk"` // as it was before
	Strip string     `json:"strip"`
}

// Pass is what was left to copy when one began.
type Pass struct {
	At      time.Time `json:"at"`
	Left    int64     `json:"left"`    // bytes
	Seconds float64   `json:"seconds"` // that those take to copy, as far as can be told
	Rate    float64   `json:"rate"`    // bytes a second that were written since the one before
}

const (
	// interval is the time between two reports of one step.
	interval = 200 * time.Millisecond
	// window is over how many of them the present speed is taken.
	window = 10
)

// Reporter tells how far the work on a subject is: when a step begins and ends, and at an interval between.
type Reporter struct {
	Done []receipt.Done // the steps that ended
	// Strip is of what is copied, nil where nothing is, and Proven of what is read back.
	Strip, Proven *transfer.Strip

	steps   []plan.Step
	subject string
	watch   func(Progress)
	speeds  history

	mu     sync.Mutex // of what follows
	passes []Pass
	stop   int
}

// mostPasses bounds how many passes are kept.
const mostPasses = 100

// Pass notes that a pass begins, and for how many seconds the machine may stand still at the end.
func (r *Reporter) Pass(stop int, passes ...Pass) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.passes, r.stop = append(r.passes, passes...), stop
	r.passes = r.passes[max(0, len(r.passes)-mostPasses):]
}

// Passes are the last ones.
func (r *Reporter) Passes() []Pass {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.Clone(r.passes)
}

// Reporter returns that of the job's subject.
func (j Job) Reporter() *Reporter {
	return &Reporter{steps: j.Plan.Steps, subject: j.Subject, watch: j.Watch}
}

// Run does the step of a kind and notes what it took. meter may be nil; earlier is what was done of the step before this process.
func (r *Reporter) Run(name string, meter *transfer.Meter, earlier *fingerprint.Leaves, do func() error) error {
	number := slices.IndexFunc(r.steps, func(s plan.Step) bool { return s.Kind == name && Subject(s.ID) == r.subject })
	if number < 0 { // of a plan that was made by an earlier version
		number = len(r.steps)
		r.steps = append(r.steps[:number:number], plan.Step{Kind: name})
	}
	step := r.steps[number]
	p := Progress{
		Step:   name,
		Title:  step.Title,
		Number: number + 1,
		Steps:  len(r.steps),
		Total:  step.Bytes,
		Since:  time.Now(),
	}
	before := int64(0)
	if earlier != nil {
		before = min(earlier.Data(), step.Bytes)
	}
	last := int64(0)     // bytes at the last report
	var lately []float64 // bytes between the last reports, so that blocks which come one by one do not make it jump
	p.Done = before
	told := p.Since
	tell := func() {
		if meter != nil {
			read, elapsed := meter.Read.Load(), time.Since(p.Since).Seconds()
			every := time.Since(told)
			told = time.Now()
			lately = append(lately, float64(read-last)/every.Seconds())
			lately = lately[max(0, len(lately)-window):]
			p.Speed = 0
			for _, v := range lately {
				p.Speed += v / float64(len(lately))
			}
			r.speeds.add(float64(read-last), every.Seconds())
			last, p.Done, p.Average = read, before+read, float64(read)/elapsed
			if p.Average > 0 {
				left := max(0, float64(step.Bytes-p.Done))/p.Average + r.after(number, p.Average)
				p.SecondsLeft = &left
			}
			if most, share := meter.Bottleneck(); share > 0 {
				p.LimitedBy = most.String()
			}
		}
		r.show(&p)
		r.watch(p)
	}
	r.show(&p)
	r.watch(p)
	stop := make(chan struct{})
	var ticking sync.WaitGroup
	ticking.Go(func() {
		tick := time.NewTicker(interval)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				tell()
			case <-stop:
				return
			}
		}
	})
	err := do()
	close(stop)
	ticking.Wait()
	if meter == nil && len(r.Passes()) > 0 { // which outlive the step
		tell()
	}
	d := receipt.Done{Name: name, Title: step.Title, Seconds: time.Since(p.Since).Seconds()}
	if meter != nil {
		if time.Since(told) > shortest {
			tell()
		}
		d.Bytes = meter.Read.Load()
		d.BytesPerSecond = speedOf(d.Bytes, d.Seconds)
		if most, share := meter.Bottleneck(); share > 0 {
			d.LimitedBy, d.LimitedShare = most.String(), share
		}
	}
	r.note(d)
	return err
}

// show has what is known of the course so far in a report.
func (r *Reporter) show(p *Progress) {
	p.Strip = r.letters()
	p.Speeds, p.SpeedSeconds = r.speeds.shown()
	p.Passes = r.Passes()
	r.mu.Lock()
	defer r.mu.Unlock()
	p.Stop = r.stop
}

// shortest is for how long something has to go on to have a speed.
const shortest = 10 * time.Millisecond

// speedOf is a speed in bytes a second, 0 where nothing can be said of it.
func speedOf(bytes int64, seconds float64) float64 {
	if seconds < shortest.Seconds() {
		return 0
	}
	return float64(bytes) / seconds
}

// note adds a step that ended. One that was done in parts is one.
func (r *Reporter) note(d receipt.Done) {
	for i, old := range r.Done {
		if old.Name == d.Name {
			d.Bytes, d.Seconds = d.Bytes+old.Bytes, d.Seconds+old.Seconds
			d.BytesPerSecond = speedOf(d.Bytes, d.Seconds)
			r.Done[i] = d
			return
		}
	}
	r.Done = append(r.Done, d)
}

// after is how many seconds the steps behind the given one will take, which have their estimates from earlier jobs, or go as fast as this
// one.
func (r *Reporter) after(number int, average float64) (seconds float64) {
	for _, s := range r.steps[number+1:] {
		if s.Seconds > 0 {
			seconds += s.Seconds
		} else {
			seconds += float64(s.Bytes) / average
		}
	}
	return seconds
}

// proven is the letter of a part of the strip that was read back from storage.
const proven = 'p'

// letters is the strip as it is now.
func (r *Reporter) letters() string {
	if r.Strip == nil && r.Proven == nil {
		return ""
	}
	if r.Strip == nil {
		return provenLetters(r.Proven.String(), r.Proven.String())
	}
	if r.Proven == nil {
		return r.Strip.String()
	}
	return provenLetters(r.Strip.String(), r.Proven.String())
}

func provenLetters(copied, back string) string {
	b := []byte(copied)
	for i := range b {
		if b[i] != transfer.Damaged && b[i] != transfer.Empty && back[i] != transfer.Ahead {
			b[i] = proven
			if back[i] == transfer.Empty {
				b[i] = transfer.Empty
			}
		}
	}
	return string(b)
}

// mostSpeeds bounds how many speeds are kept; with more, two become one.
const mostSpeeds = 120

// history is the speed over time.
type history struct {
	every         float64 // seconds
	speeds        []float64
	bytes, passed float64 // since the last of them
}

func (h *history) add(bytes, seconds float64) {
	if h.every == 0 {
		h.every = 1
	}
	h.bytes, h.passed = h.bytes+bytes, h.passed+seconds
	if h.passed < h.every {
		return
	}
	h.speeds = append(h.speeds, h.bytes/h.passed)
	h.bytes, h.passed = 0, 0
	if len(h.speeds) >= mostSpeeds {
		for i := range mostSpeeds / 2 {
			h.speeds[i] = (h.speeds[2*i] + h.speeds[2*i+1]) / 2
		}
		h.speeds, h.every = h.speeds[:mostSpeeds/2], 2*h.every
	}
}

func (h *history) shown() ([]float64, float64) { return append([]float64{}, h.speeds...), h.every }
