// Package consents has what takes data away for good wait until a second person agrees, where the service is told so.
package consents

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"bagaglio/core/plan"
	"bagaglio/core/step/disks"
	"bagaglio/internal/places"
	"bagaglio/internal/queue"
	"bagaglio/internal/records"
	"bagaglio/internal/store"

	"github.com/google/uuid"
)

// NeededError is the error for what somebody else has to agree to first.
type NeededError struct{ Consent store.Consent }

func (e *NeededError) Error() string {
	return fmt.Sprintf(
		"%s would be gone for good: it begins when somebody else agrees, who was let in by another name than %s: bagaglio consent give %s",
		e.Consent.Said,
		e.Consent.By(),
		e.Consent.ID,
	)
}

// Consents are those that are waited for. Make them with [New].
type Consents struct {
	records *records.Records
	places  *places.Places
	queue   *queue.Queue
	needed  bool
}

// New returns them. Where none is needed, everything is done at once.
func New(r *records.Records, p *places.Places, q *queue.Queue, needed bool) *Consents {
	return &Consents{r, p, q, needed}
}

const (
	ofPlan = "plan:"
	ofHeld = "held:"
)

// Start starts a plan for somebody, or fails with a NeededError.
func (c *Consents) Start(ctx context.Context, n queue.New, who string) (queue.Job, error) {
	j, err := c.queue.Start(ctx, n)
	var gone *queue.GoneError
	if !errors.As(err, &gone) {
		return j, err
	}
	how, err := json.Marshal(n)
	if err != nil {
		return j, err
	}
	return j, c.ask(ctx, store.Consent{What: ofPlan + n.Plan, Said: strings.Join(gone.Gone, ", "), How: string(how), Who: who})
}

// DropHeld removes what is held for good, for somebody, or fails with a NeededError.
func (c *Consents) DropHeld(ctx context.Context, pool, id, who string) error {
	if !c.needed {
		return c.places.DropHeld(ctx, pool, id)
	}
	folder, err := c.places.Folder(ctx, pool)
	if err != nil {
		return err
	}
	h, err := disks.HeldAs(folder, id)
	if err != nil {
		return err
	}
	return c.ask(ctx, store.Consent{What: ofHeld + pool + "/" + id, Said: "what is held of " + pool + ":" + h.Path, Who: who})
}

func (c *Consents) ask(ctx context.Context, wanted store.Consent) error {
	wanted.ID = uuid.NewString()
	kept, err := c.records.AskConsent(ctx, wanted, time.Now())
	if err != nil {
		return err
	}
	return &NeededError{kept}
}

// List returns what waits, the oldest first.
func (c *Consents) List(ctx context.Context) ([]store.Consent, error) {
	return c.records.Consents(ctx, time.Now().Add(-store.ConsentWaits))
}

// Plan is the ID of the plan that a consent is for, or what is held in a pool.
func Plan(of store.Consent) (id, pool string) {
	if id, ok := strings.CutPrefix(of.What, ofPlan); ok {
		return id, ""
	}
	pool, _, _ = strings.Cut(strings.TrimPrefix(of.What, ofHeld), "/")
	return "", pool
}

// One returns a consent that waits, or fails with ErrNotFound.
func (c *Consents) One(ctx context.Context, id string) (store.Consent, error) {
	of, err := c.records.Consent(ctx, id)
	if err == nil && time.Since(asked(of)) > store.ConsentWaits {
		err = store.ErrNotFound
	}
	if err != nil {
		return of, fmt.Errorf("consent %q: %w", id, err)
	}
	return of, nil
}

func asked(of store.Consent) time.Time {
	at, _ := time.Parse(time.RFC3339Nano, of.Asked) // as it was written
	return at
}

// Give has done what somebody else asked for; who agrees is not who asked, and may start it as it is planned then. The job is the zero one where it is none.
func (c *Consents) Give(ctx context.Context, of store.Consent, who string, may func(plan.Plan) error) (j queue.Job, err error) {
	if who == of.Who {
		return j, fmt.Errorf("%w: %s asked for that: somebody else has to agree", records.ErrInvalid, of.By())
	}
	if id, pool := Plan(of); id == "" {
		err = c.places.DropHeld(ctx, pool, strings.TrimPrefix(of.What, ofHeld+pool+"/"))
	} else {
		var n queue.New
		if err = json.Unmarshal([]byte(of.How), &n); err == nil {
			n.Agreed, n.May, n.Who = true, may, n.Who+", agreed by "+store.Consent{Who: who}.By()
			j, err = c.queue.Start(ctx, n)
		}
	}
	if err != nil {
		return j, err
	}
	return j, c.records.EndConsent(ctx, of.ID)
}

// Refuse forgets what was asked for.
func (c *Consents) Refuse(ctx context.Context, id string) error {
	if _, err := c.One(ctx, id); err != nil {
		return err
	}
	return c.records.EndConsent(ctx, id)
}
