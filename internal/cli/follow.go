package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"strings"

	"bagaglio/api"
	"bagaglio/client"
	"bagaglio/core/receipt"
	"bagaglio/core/step"
)

// follow watches a job of the service to its end.
func (a *app) follow(ctx context.Context, service *client.Service, id string, watch func(step.Progress)) (receipt.Receipt, error) {
	paused, kept := "", ""
	for j, err := range service.Follow(ctx, id) {
		if err != nil && ctx.Err() != nil {
			a.remark("Job %s goes on in the service. To stop it: bagaglio job cancel %s", id, id)
			return receipt.Receipt{}, told(ctx.Err())
		}
		if errors.Is(err, client.ErrAway) {
			a.remark("The service does not answer any more (%v). Job %s goes on when it is back; this waits for it.", err, id)
			continue
		}
		if err != nil {
			return receipt.Receipt{}, err
		}
		if j.State == api.JobStatePaused && paused != *j.Reason {
			paused = *j.Reason
			a.remark("Job %s has paused: %s", id, paused)
		}
		if j.Question != nil && !j.Question.Until.IsZero() {
			if text := j.Question.Text; text != kept {
				kept = text
				what := "keeps it up to date, next"
				if j.Question.Trouble {
					what = "does not keep it up to date at present, and looks again"
				}
				a.remark("Job %s %s at %s. %s", id, what, when(j.Question.Until), text)
			}
			continue
		}
		if j.Question != nil {
			if err := a.answer(ctx, service, j); err != nil {
				return receipt.Receipt{}, err
			}
		}
		if j.Progress != nil && j.State == api.JobStateRunning {
			paused = ""
			watch(*j.Progress)
		}
	}
	done, err := service.Receipt(ctx, id)
	if err != nil {
		return done, err
	}
	return done, receiptError(done)
}

// answer asks whoever looks what a job wants to know. Where nobody does, it says how to answer, and fails: the job waits.
func (a *app) answer(ctx context.Context, service *client.Service, j api.Job) error {
	a.remark("Job %s asks: %s", j.Id, j.Question.Text)
	if a.json || !isTerminal(a.in) || !isTerminal(a.notes) {
		for _, c := range j.Question.Answers {
			a.remark("  bagaglio job answer %s %-8s %s", j.Id, c.Name, c.Label)
		}
		a.remark("  bagaglio job cancel %s          Stop it, and remove what it wrote", j.Id)
		return fmt.Errorf("%w: job %s asks, and goes on when it is answered", step.ErrBlocked, j.Id)
	}
	for _, c := range j.Question.Answers {
		a.remark("  %-8s %s", c.Name, c.Label)
	}
	lines := bufio.NewReader(a.in)
	for {
		_, _ = fmt.Fprint(a.notes, "Answer: ")
		line, err := lines.ReadString('\n')
		if name := strings.TrimSpace(line); j.Question.Has(name) {
			_, err := service.Answer(ctx, j.Id, name)
			return err
		}
		if err != nil {
			return fmt.Errorf("job %s waits for an answer (bagaglio job answer %s NAME): %w", j.Id, j.Id, err)
		}
	}
}
