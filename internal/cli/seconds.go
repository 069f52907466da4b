package cli

import (
	"fmt"
	"time"
)

// seconds is a flag for a time in whole seconds, as 30s or 2m.
type seconds struct{ n *int }

func (s seconds) String() string {
	if s.n == nil || *s.n == 0 {
		return ""
	}
	return (time.Duration(*s.n) * time.Second).String()
}

func (s seconds) Type() string { return "time" }

func (s seconds) Set(text string) error {
	d, err := time.ParseDuration(text)
	if err != nil || d < time.Second || d%time.Second != 0 {
		return fmt.Errorf("%q is no time in whole seconds: write it like 30s", text)
	}
	*s.n = int(d / time.Second)
	return nil
}
