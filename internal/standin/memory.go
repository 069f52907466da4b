package standin

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"strings"

	"bagaglio/core/host"
)

// remembered is what a file with the memory of a machine has.
type remembered struct {
	UUID string `json:"uuid"`
	Next int64  `json:"next"`
}

// Save writes the memory of a machine to a file, and switches it off.
func (h *Host) Save(m Which, file string) (Entry, error) {
	return h.do(m, func(g *guest) error {
		if g.State == host.Off {
			_, err := recall(g, file)
			return err
		}
		if g.State == host.Running {
			g.start.writes.halt()
			g.State = host.Suspended
		}
		r := remembered{UUID: g.is.UUID}
		if g.start.writes != nil {
			r.Next = g.start.writes.next
		}
		text, err := json.Marshal(r)
		if err == nil {
			err = os.WriteFile(file, text, 0o600)
		}
		if err != nil {
			g.start.writes.goOn()
			g.State = host.Running
			return err
		}
		g.off()
		return nil
	})
}

func recall(g *guest, file string) (r remembered, err error) {
	text, err := os.ReadFile(file)
	if err == nil {
		err = json.Unmarshal(text, &r)
	}
	if err == nil && !strings.EqualFold(r.UUID, g.is.UUID) {
		err = fmt.Errorf("%s has the memory of another machine", file)
	}
	if err != nil {
		return r, fmt.Errorf("%w: %w", errRefused, err)
	}
	return r, nil
}

// Restore has a machine that is off go on from a file.
func (h *Host) Restore(ctx context.Context, m Which, file string) (Entry, error) {
	return h.do(m, func(g *guest) error {
		if g.State != host.Off {
			return fmt.Errorf("%w: it is %s", errState, g.State)
		}
		r, err := recall(g, file)
		if err != nil {
			return err
		}
		return h.goOn(ctx, g, &r)
	})
}
