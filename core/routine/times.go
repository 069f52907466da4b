package routine

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/robfig/cron/v3"
)

// What is done about a time at which the service did not run.
const (
	Run  = "run"  // it is made good as soon as it runs again, once, however many were missed
	Skip = "skip" // the next one is waited for
)

// Times are when a routine is done: once, or again and again.
type Times struct {
	// Cron has minute, hour, day of the month, month and day of the week (POSIX, crontab, "INPUT FILES").
	Cron string     `json:"cron,omitempty"`
	Once *time.Time `json:"once,omitempty"`
	Zone string     `json:"zone,omitempty"` // of the IANA's database, for Cron and Except; that of the service when empty
	// Except are days on which it is not done, as 2026-12-25.
	Except []string `json:"except,omitempty"`
	Missed string   `json:"missed,omitempty"` // Run when empty
}

var fields = cron.NewParser(cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow)

func (t Times) validate() error {
	if (t.Cron == "") == (t.Once == nil) {
		return errors.New("a routine is done once, or at the times of a cron line")
	}
	if _, err := t.zone(); err != nil {
		return err
	}
	if t.Cron != "" {
		if _, err := fields.Parse(t.Cron); err != nil {
			return fmt.Errorf("%q is no cron line of minute, hour, day, month and day of the week, as 30 2 1 * *: %w", t.Cron, err)
		}
		if _, ok := t.Next(time.Now()); !ok {
			return fmt.Errorf("the time of %q never comes", t.Cron)
		}
	}
	for _, day := range t.Except {
		if _, err := time.Parse(time.DateOnly, day); err != nil {
			return fmt.Errorf("%q is no day: write it like 2026-12-25", day)
		}
	}
	if t.Missed != "" && t.Missed != Run && t.Missed != Skip {
		return fmt.Errorf("what was missed is made good (%s) or not (%s), and not %q", Run, Skip, t.Missed)
	}
	return nil
}

func (t Times) zone() (*time.Location, error) {
	if t.Zone == "" {
		return time.Local, nil
	}
	zone, err := time.LoadLocation(t.Zone)
	if err != nil {
		return nil, fmt.Errorf("the time zone %q is not known: write it like Europe/Rome", t.Zone)
	}
	return zone, nil
}

// mostDays bounds how many days that are left out are gone over.
const mostDays = 10_000

// Next is the first time behind another one. ok is false where there is none.
func (t Times) Next(after time.Time) (next time.Time, ok bool) {
	if t.Once != nil {
		return *t.Once, t.Once.After(after)
	}
	zone, err := t.zone()
	if err != nil {
		return next, false
	}
	line, err := fields.Parse(t.Cron)
	if err != nil {
		return next, false
	}
	next = after.In(zone)
	for range mostDays {
		next = line.Next(next)
		if next.IsZero() {
			return next, false
		}
		if !slices.Contains(t.Except, next.Format(time.DateOnly)) {
			return next, true
		}
	}
	return next, false
}
