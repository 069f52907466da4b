package plan

import (
	"errors"
	"fmt"
	"net"
	"slices"
	"strings"

	"bagaglio/core/adapt"
	"bagaglio/core/inspect"
	"bagaglio/core/machine"
)

func (r ConvertRequest) validateNewPlace() error {
	w := r.NewPlace
	switch {
	case w == nil:
		return nil
	case w.Bus != "" && !slices.Contains(adapt.Buses, w.Bus):
		return fmt.Errorf("a guest is fitted to a disk on %s, not on %q", strings.Join(adapt.Buses, ", "), w.Bus)
	case w.Firmware != "" && w.Firmware != inspect.FirmwareUEFI && w.Firmware != inspect.FirmwareBIOS:
		return fmt.Errorf("firmware is %s or %s, not %q", inspect.FirmwareUEFI, inspect.FirmwareBIOS, w.Firmware)
	case slices.ContainsFunc(w.Cards, func(c adapt.Card) bool { return !isAddress(c.Now) || c.Was != "" && !isAddress(c.Was) }):
		return errors.New("a network card is named by its address: 52:54:00:01:02:03")
	case r.Base != "" || r.Linked:
		return errors.New("a disk that stands on another one is not changed: fit the guest where all of it is copied")
	case r.NoProof:
		return errors.New("a copy is proven before its guest is fitted to its new place: prove it, or leave it as it is")
	case r.IfSmaller:
		return errors.New("a smaller image of the same disk has what that has: fit the guest another time")
	case r.Dying:
		return errors.New("of a disk that fails all is captured as it was: fit the guest to its new place from the image")
	}
	return nil
}

// isAddress tells whether a text is the address of a network card.
func isAddress(text string) bool {
	_, err := net.ParseMAC(text)
	return err == nil
}

// InNewPlace is the request for a disk whose guest is fitted to a new place: an image is made anew for that, of a format.
func (r Request) InNewPlace(w adapt.Wish, format string) Request {
	if r.Kind == Copy {
		r.Kind, r.As = Convert, format
	}
	r.NewPlace = &w
	return r
}

// NewPlace is where a disk of a machine comes to.
func (f MachineFacts) NewPlace(r Request, i int) (w adapt.Wish) {
	if bus := r.bus(f.Is, i); bus != f.Is.Disks[i].Bus {
		w.Bus = bus
	}
	w.Other = i > 0
	if w.Firmware = f.Is.Firmware; r.Changes.Firmware != "" {
		w.Firmware = r.Changes.Firmware
	}
	if r.Source.IsDevice() { // it was in a computer
		w.Bus = f.Is.Disks[i].Bus
		if bus := r.bus(f.Is, i); bus != "" {
			w.Bus = bus
		}
	}
	for n, card := range f.Is.Networks {
		is := adapt.Card{Was: card.MAC, Now: f.address(r, n)}
		for old, now := range r.Changes.Addresses {
			if strings.EqualFold(old, card.MAC) {
				is.Now = now
			}
		}
		if is.Now != "" {
			w.Cards = append(w.Cards, is)
		}
	}
	return w
}

// address is that of a network card in its new place: a fresh one where the machine gets an identity of its own, or where a guest is bound to it that had none.
func (f MachineFacts) address(r Request, n int) string {
	was := f.Is.Networks[n].MAC
	if (r.newIdentity() || r.Fit && was == "") && n < len(f.MACs) {
		return f.MACs[n]
	}
	return was
}

// bus is the one that is asked for a disk of a machine, empty for none.
func (r Request) bus(m machine.Machine, i int) string {
	if bus := r.Changes.Buses[DiskName(m, i)]; bus != "" {
		return bus
	}
	return r.Changes.Buses[AllDisks]
}

// newIdentity: a copy gets one, unless no host comes to know it, or it is made of a computer.
func (r Request) newIdentity() bool {
	if r.Identity != "" {
		return r.Identity == NewIdentity
	}
	return r.Kind == CopyMachine && r.To != "" && !r.Source.IsDevice() // it takes the place of a computer
}

// adapts plans what is changed on the copy so that its guest starts in its new place, and says it.
func (p *maker) adapts() {
	c := p.facts.Source.Adapt
	if c == nil {
		return
	}
	for _, l := range c.Left {
		p.add(Warns, "fit", l.What+" "+l.Do)
	}
	if len(c.Files) == 0 {
		p.add(Informs, "fit", "Nothing is found on it that has to be changed for its new place.")
		return
	}
	p.Disk.Adapt = c
	without := remedy("Leave the guest as it is", map[string]any{"new_place": nil})
	p.add(Informs, "fit", fmt.Sprintf(
		"%d file(s) inside of the copy are changed so that its guest starts in its new place, once the copy is proven as it is. The source stays as it is.",
		len(c.Files),
	))
	for _, kind := range c.Filesystems() {
		if err := adapt.Able(kind); err != nil {
			p.add(Blocks, "fit", capital(err.Error())+". Without that the guest is left as it is: keep its disk on the bus that it knows.", without)
		}
	}
	p.step(StepAdapt, 2*p.Disk.After.AllocatedSize,
		fmt.Sprintf("Change %d file(s) on the proven copy, so that the guest starts in its new place, and read all of it back", len(c.Files)))
	p.BytesToWrite += p.Disk.After.AllocatedSize
}
