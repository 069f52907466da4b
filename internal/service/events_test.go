package service

import (
	"testing"

	"bagaglio/api"

	"github.com/stretchr/testify/assert"
)

// TestASlowFollowerGetsTheLastState of each job, in the order in which they first changed.
func TestASlowFollowerGetsTheLastState(t *testing.T) {
	var b broker
	all, one := b.add(""), b.add("2")
	for _, j := range []api.Job{{Id: "1", State: "running"}, {Id: "2", State: "running"}, {Id: "1", State: "done"}} {
		b.publish(j)
	}
	jobs, more := b.take(all)
	assert.True(t, more)
	assert.Equal(t, []api.Job{{Id: "1", State: "done"}, {Id: "2", State: "running"}}, jobs)
	jobs, _ = b.take(one)
	assert.Equal(t, []api.Job{{Id: "2", State: "running"}}, jobs)
	jobs, _ = b.take(all)
	assert.Empty(t, jobs, "nothing is told twice")

	b.publish(api.Job{Id: "2", State: "failed"})
	b.close()
	<-one.wake // whoever waits is woken
	jobs, more = b.take(one)
	assert.False(t, more)
	assert.Equal(t, []api.Job{{Id: "2", State: "failed"}}, jobs, "what is there is delivered before the end")
	b.remove(one)
	b.remove(all)
	assert.Empty(t, b.followers)
	late := b.add("")
	<-late.wake // a follower that comes after the end does not wait for ever
}
