package api

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"bagaglio/core/plan"
	"bagaglio/internal/access"
	"bagaglio/internal/store"

	"github.com/gin-gonic/gin"
)

// errElsewhere is the error for who may not work there.
var errElsewhere = errors.New("you may not work there")

// asks are the calls that do not say in their address what they work on: their handlers ask whether that may be. A plan changes nothing.
var asks = map[string]bool{
	"POST /v1/group-plans": true, "POST /v1/jobs": true, "POST /v1/groups": true, "POST /v1/exports": true, "DELETE /v1/exports/:export": true,
	"POST /v1/consents/:consent": true, "DELETE /v1/consents/:consent": true,
}

// works fails where somebody whose work is limited asks for work elsewhere. What is about the whole service is elsewhere for them.
func (g *gate) works(c *gin.Context, p access.Person) error {
	switch {
	case p.Works.Everywhere():
		return nil
	case c.Param("pool") != "":
		return g.on(c, p, []string{c.Param("pool")}, nil)
	case c.Param("host") != "":
		return g.on(c, p, nil, []string{c.Param("host")})
	case c.Param("job") != "":
		j, err := g.service.Queue.Job(c, c.Param("job"))
		if err != nil {
			return err
		}
		return g.planned(c, p, j.Plan)
	case c.Param("group") != "":
		return g.onGroup(c, p, c.Param("group"))
	case asks[c.Request.Method+" "+c.FullPath()]:
		return nil
	}
	return fmt.Errorf("%w: this is about the whole service, and you work on %s only", errElsewhere, strings.Join(p.Works, ", "))
}

// on fails unless somebody may work on all of these.
func (g *gate) on(ctx context.Context, p access.Person, pools, hosts []string) error {
	if p.Works.Everywhere() {
		return nil
	}
	for _, name := range pools {
		record, err := g.service.Places.Record(ctx, name)
		if err != nil && !errors.Is(err, store.ErrNotFound) {
			return err
		}
		if !p.Works.OnPool(name, record.Host) {
			return fmt.Errorf("%w: on the pool %s (you work on %s)", errElsewhere, name, strings.Join(p.Works, ", "))
		}
	}
	for _, name := range hosts {
		if !p.Works.OnHost(name) {
			return fmt.Errorf("%w: on the host %s (you work on %s)", errElsewhere, name, strings.Join(p.Works, ", "))
		}
	}
	return nil
}

// planned fails unless somebody may work on all that a plan touches.
func (g *gate) planned(ctx context.Context, p access.Person, what plan.Plan) error {
	pools, hosts := what.Touches()
	return g.on(ctx, p, pools, hosts)
}

// may is that for who asks, of a plan as it is started.
func (g *gate) may(ctx context.Context) func(plan.Plan) error {
	return func(what plan.Plan) error { return g.planned(ctx, personOf(ctx), what) }
}

// requested fails unless who asks may work on what a request names.
func (g *gate) requested(ctx context.Context, r plan.Request) error {
	pools, hosts := r.Touches()
	return g.on(ctx, personOf(ctx), pools, hosts)
}

func (g *gate) onGroup(ctx context.Context, p access.Person, id string) error {
	all, err := g.service.Queue.Group(ctx, id)
	for _, j := range all.Jobs {
		err = errors.Join(err, g.planned(ctx, p, j.Plan))
	}
	return err
}
