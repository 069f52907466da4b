package notices

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strconv"
	"time"

	"bagaglio/core/receipt"
	"bagaglio/internal/attention"
	"bagaglio/internal/store"

	"github.com/google/uuid"
	"golang.org/x/sync/errgroup"
)

// look tells the channels what is due; before that it notes what is new for them, when that is to be looked for.
func (n *Notices) look(ctx context.Context, now time.Time, news bool) error {
	kept, err := n.records.Channels(ctx)
	if err != nil || len(kept) == 0 {
		return err
	}
	if news {
		if err := n.note(ctx, kept, now); err != nil {
			return err
		}
	}
	return n.tellDue(ctx, kept, now)
}

// note keeps what is new for the channels.
func (n *Notices) note(ctx context.Context, kept []store.Channel, now time.Time) error {
	var channels []Channel
	for _, k := range kept {
		c, err := channelOf(k)
		if err != nil {
			return err
		}
		channels = append(channels, c)
	}
	happened, err := n.happened(ctx, now)
	if err != nil {
		return err
	}
	var so []string
	by := map[string]Message{}
	for _, m := range happened {
		key := m.Kind + " " + m.Pool
		if m.Pool == "" {
			key = fmt.Sprint(m.Kind, " ", m.Job, m.Routine, m.Consent, " ", m.At.UnixNano()) // a job may ask twice
		}
		if _, twice := by[key]; !twice {
			so, by[key] = append(so, key), m
		}
	}
	err = n.records.Tell(ctx, so, now, now.Add(-forgetting), func(what string) (fresh []store.Notice) {
		m := by[what]
		for _, c := range channels {
			if !slices.Contains(c.Tells, m.Kind) || m.Pool == "" && m.At.Before(c.Created) {
				continue
			}
			m.ID, m.Service = uuid.NewString(), n.service
			text, err := json.Marshal(m)
			if err != nil {
				n.log.Error("telling what happens", "error", err)
				continue
			}
			fresh = append(fresh, store.Notice{ID: m.ID, Channel: c.Name, Message: string(text)})
		}
		return fresh
	})
	if err == nil {
		err = n.records.DropNotices(ctx, now.Add(-keptFor))
	}
	return err
}

// happened is what may be told: what needs somebody, and jobs that did what they were to.
func (n *Notices) happened(ctx context.Context, now time.Time) (all []Message, err error) {
	needs, err := attention.Needs(ctx, n.records, n.pools, now)
	if err != nil {
		return nil, err
	}
	for _, need := range needs {
		m := Message{Kind: string(need.Kind), Text: need.Text, Job: need.Job, Pool: need.Pool, Routine: need.Routine, At: need.Since}
		switch {
		case need.Job > 0:
			m.Text = "Job " + strconv.FormatInt(need.Job, 10) + ": " + m.Text
		case need.Routine != "":
			m.Text = "Routine " + need.Routine + ": " + m.Text
		case need.Consent != "":
			m.Consent = need.Consent
		default:
			m.Text, m.At = "Pool "+need.Pool+": "+m.Text, now
		}
		all = append(all, m)
	}
	ended, err := n.records.Jobs(ctx, store.JobQuery{State: store.Done, EndedSince: now.Add(-told), Limit: 1000})
	for _, j := range ended {
		if j.Finished == nil || j.Outcome == receipt.Damaged || j.Outcome == receipt.Unproven {
			continue
		}
		r := j.Plan.Request
		all = append(all, Message{
			Kind: Done, Job: j.ID, At: *j.Finished,
			Text: fmt.Sprintf("Job %d (%s) has ended: %s.", j.ID, r.Kind, j.Outcome),
		})
	}
	return all, err
}

// tellDue tells what is due. Channels do not wait for one another.
func (n *Notices) tellDue(ctx context.Context, channels []store.Channel, now time.Time) error {
	var all errgroup.Group
	for _, c := range channels {
		all.Go(func() error { return n.tellOf(ctx, c, now) })
	}
	return all.Wait()
}

// tellOf tells a channel its messages, one after the other: behind one that cannot be told, the others wait too.
func (n *Notices) tellOf(ctx context.Context, c store.Channel, now time.Time) error {
	waiting, err := n.records.WaitingNotices(ctx, c.Name, now)
	if err != nil {
		return err
	}
	for _, notice := range waiting {
		var m Message
		if err := json.Unmarshal([]byte(notice.Message), &m); err != nil {
			return err
		}
		failed := n.send(ctx, c, m)
		if failed != nil && ctx.Err() != nil {
			return ctx.Err()
		}
		problem, next := "", time.Time{}
		if failed != nil {
			n.log.Warn("somebody could not be told what happens", "channel", c.Name, "error", failed)
			problem = failed.Error()
			if created, err := time.Parse(time.RFC3339Nano, notice.Created); err == nil && now.Sub(created) < givesUp {
				next = now.Add(min(firstAgain<<min(notice.Tries, 10), lastAgain))
			}
		}
		if err := n.records.NoticeTried(ctx, notice.ID, next, problem); err != nil || failed != nil {
			return err
		}
	}
	return nil
}
