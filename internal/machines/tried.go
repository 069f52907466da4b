package machines

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/receipt"
	"bagaglio/internal/store"
)

// triedPrefix is how names of settings begin that keep what the last trial of a machine on a host gave.
const triedPrefix = "tried/"

// keepTried keeps what a trial of a machine gave, for plans to take it there.
func (m *Machines) keepTried(ctx context.Context, t Trial, seen receipt.Machine, problem error) error {
	if t.Machine == "" || problem != nil {
		return nil
	}
	text, err := json.Marshal(plan.Tried{At: time.Now().Truncate(time.Second), CameUp: seen.CameUp, Bus: t.Bus, Firmware: t.Firm})
	if err != nil {
		return err
	}
	return m.records.SetSetting(ctx, triedPrefix+t.Machine+">"+t.On, string(text))
}

// LastTried is what the last trial of a machine, HOST:NAME, on a host gave; nil where there was none.
func (m *Machines) LastTried(ctx context.Context, machine, on string) (*plan.Tried, error) {
	text, err := m.records.Setting(ctx, triedPrefix+machine+">"+on)
	if errors.Is(err, store.ErrNotFound) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	t := &plan.Tried{}
	return t, json.Unmarshal([]byte(text), t)
}
