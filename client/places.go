package client

import (
	"context"
	"time"

	"bagaglio/api"
)

// Hosts returns all hosts, the service's own computer first.
func (s *Service) Hosts(ctx context.Context) ([]api.Host, error) {
	return items[api.Host](s.calls.ListHosts(ctx))
}

// AddHost adds a host, which is not trusted unless its key is named.
func (s *Service) AddHost(ctx context.Context, h api.NewHost) (api.Host, error) {
	return decode[api.Host](s.calls.AddHost(ctx, h))
}

// ChangeHost changes how a host is reached, or which key is trusted.
func (s *Service) ChangeHost(ctx context.Context, name string, change api.HostChange) (api.Host, error) {
	return decode[api.Host](s.calls.ChangeHost(ctx, name, &api.ChangeHostParams{}, change))
}

// RemoveHost forgets a host that has no pools.
func (s *Service) RemoveHost(ctx context.Context, name string) error {
	_, err := decode[struct{}](s.calls.RemoveHost(ctx, name))
	return err
}

// TestHost tries a host out.
func (s *Service) TestHost(ctx context.Context, name string) (api.Trial, error) {
	return decode[api.Trial](s.calls.TestHost(ctx, name))
}

// Traits returns those that rules are combined of.
func (s *Service) Traits(ctx context.Context) ([]api.Trait, error) {
	return items[api.Trait](s.calls.ListTraits(ctx))
}

// Pools returns all pools.
func (s *Service) Pools(ctx context.Context) ([]api.Pool, error) {
	return items[api.Pool](s.calls.ListPools(ctx))
}

// Pool returns one pool.
func (s *Service) Pool(ctx context.Context, name string) (api.Pool, error) {
	return decode[api.Pool](s.calls.GetPool(ctx, name))
}

// AddPool adds a folder of a host as a pool.
func (s *Service) AddPool(ctx context.Context, p api.NewPool) (api.Pool, error) {
	return decode[api.Pool](s.calls.AddPool(ctx, p))
}

// ChangePool changes the rules of a pool.
func (s *Service) ChangePool(ctx context.Context, name string, change api.PoolChange) (api.Pool, error) {
	return s.ChangePoolIf(ctx, name, "*", change)
}

// ChangePoolIf changes the rules of a pool whose etag is still the one given.
func (s *Service) ChangePoolIf(ctx context.Context, name, etag string, change api.PoolChange) (api.Pool, error) {
	return decode[api.Pool](s.calls.ChangePool(ctx, name, &api.ChangePoolParams{IfMatch: &etag}, change))
}

// TestPool tries a pool out; one whose drive is not there only when withoutDrive is set.
func (s *Service) TestPool(ctx context.Context, name string, withoutDrive bool) (api.Trial, error) {
	return decode[api.Trial](s.calls.TestPool(ctx, name, &api.TestPoolParams{WithoutDrive: &withoutDrive}))
}

// NameDisk says what people call a disk, and notes something on it.
func (s *Service) NameDisk(ctx context.Context, pool, path string, n api.DiskName) error {
	_, err := decode[struct{}](s.calls.NameDisk(ctx, pool, &api.NameDiskParams{Path: path}, n))
	return err
}

// Family returns a disk with all that it stands on, and all that stands on those.
func (s *Service) Family(ctx context.Context, pool, path string) (api.Family, error) {
	return decode[api.Family](s.calls.GetFamily(ctx, pool, &api.GetFamilyParams{Path: path}))
}

// AddWay says that the storage of a pool lies at a folder of another computer with a porter too.
func (s *Service) AddWay(ctx context.Context, pool string, w api.Way) (api.Pool, error) {
	return decode[api.Pool](s.calls.AddWay(ctx, pool, w))
}

// RemoveWay forgets that.
func (s *Service) RemoveWay(ctx context.Context, pool, host string) error {
	_, err := decode[struct{}](s.calls.RemoveWay(ctx, pool, host))
	return err
}

// RemovePool forgets a pool; its files stay.
func (s *Service) RemovePool(ctx context.Context, name string) error {
	_, err := decode[struct{}](s.calls.RemovePool(ctx, name))
	return err
}

// PlanGroup says what several requests would do together, or those that balance pools, and returns when all of them are planned.
func (s *Service) PlanGroup(ctx context.Context, n api.NewGroupPlan) (api.GroupPlan, error) {
	g, err := decode[api.GroupPlan](s.calls.PlanGroup(ctx, n))
	return s.planned(ctx, g, err)
}

// planned waits until the plan of a group is ready.
func (s *Service) planned(ctx context.Context, g api.GroupPlan, err error) (api.GroupPlan, error) {
	for err == nil && !g.Ready {
		select {
		case <-ctx.Done():
			return g, ctx.Err()
		case <-time.After(askAgain):
		}
		g, err = decode[api.GroupPlan](s.calls.GetGroupPlan(ctx, g.Id))
	}
	return g, err
}

// askAgain is how long something that is made in the background is waited for before it is asked for again.
const askAgain = 500 * time.Millisecond

// StartGroup starts the plan of a group, all of its requests or none.
func (s *Service) StartGroup(ctx context.Context, plan string) (api.Group, error) {
	return decode[api.Group](s.calls.StartGroup(ctx, api.NewGroup{Plan: plan}))
}

// Groups returns the newest groups of jobs.
func (s *Service) Groups(ctx context.Context) ([]api.Group, error) {
	return items[api.Group](s.calls.ListGroups(ctx))
}

// Group returns one group of jobs.
func (s *Service) Group(ctx context.Context, id string) (api.Group, error) {
	return decode[api.Group](s.calls.GetGroup(ctx, id))
}

// ActOnGroup pauses, resumes or cancels all jobs of a group that have not ended.
func (s *Service) ActOnGroup(ctx context.Context, id string, act string) (api.Group, error) {
	return decode[api.Group](s.calls.ActOnGroup(ctx, id, act))
}
