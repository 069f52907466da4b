package machines

import (
	"context"
	"slices"
	"strings"
	"sync"

	"bagaglio/core/host"
	"bagaglio/core/storage"
)

// heard bounds how much is kept of what a guest writes on its serial port, in bytes, and lines how many lines of it a receipt has.
const heard, lines = 4 << 10, 6

// ear keeps the end of what a guest writes on its serial port.
type ear struct {
	mu   sync.Mutex
	text []byte

	stop      func()
	listening sync.WaitGroup
}

// hear begins to listen to a guest, unless that is done already. A host that passes nothing on is heard nothing of.
func (w *work) hear(ctx context.Context, m host.Machine) {
	if w.serial != nil {
		return
	}
	ctx, stop := context.WithCancel(context.WithoutCancel(ctx))
	e := &ear{stop: stop}
	e.listening.Go(func() { _ = w.Ends.To.Listen(ctx, m, e) }) // it is one sign of several
	w.serial = e
}

// deafen listens no more. What was heard last is in the receipt.
func (w *work) deafen() {
	if w.serial == nil {
		return
	}
	w.serial.stop()
	w.serial.listening.Wait()
	w.state.Receipt.Console = w.serial.last()
	w.serial = nil
}

func (e *ear) Write(b []byte) (int, error) {
	e.mu.Lock()
	defer e.mu.Unlock()
	e.text = append(e.text, b...)
	e.text = slices.Delete(e.text, 0, max(0, len(e.text)-heard))
	return len(b), nil
}

// last are the last lines.
func (e *ear) last() (all []string) {
	e.mu.Lock()
	defer e.mu.Unlock()
	for line := range strings.Lines(string(e.text)) {
		if line = strings.TrimSpace(storage.Printable(strings.Trim(line, "\r\n"))); line != "" {
			all = append(all, line)
		}
	}
	return all[max(0, len(all)-lines):]
}

// asksToLogIn tells whether it waits for somebody's name, as what is up does.
func (e *ear) asksToLogIn() bool {
	all := e.last()
	return len(all) > 0 && strings.HasSuffix(strings.ToLower(all[len(all)-1]), "login:")
}
