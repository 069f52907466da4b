package feed

import (
	"testing"

	"github.com/stretchr/testify/assert"
)

type job struct{ id, state string }

// TestASlowFollowerGetsTheLastState of each thing, in the order in which they first changed.
func TestASlowFollowerGetsTheLastState(t *testing.T) {
	var f Feed[job]
	all, one := f.Follow(""), f.Follow("2")
	for _, j := range []job{{"1", "running"}, {"2", "running"}, {"1", "done"}} {
		f.Publish(j.id, j)
	}
	jobs, more := all.Take()
	assert.True(t, more)
	assert.Equal(t, []job{{"1", "done"}, {"2", "running"}}, jobs)
	jobs, _ = one.Take()
	assert.Equal(t, []job{{"2", "running"}}, jobs)
	jobs, _ = all.Take()
	assert.Empty(t, jobs, "nothing is told twice")

	f.Publish("2", job{"2", "failed"})
	f.Close()
	<-one.News() // whoever waits is woken
	jobs, more = one.Take()
	assert.False(t, more)
	assert.Equal(t, []job{{"2", "failed"}}, jobs, "what is there is delivered before the end")
	one.Stop()
	all.Stop()
	assert.Empty(t, f.followers)
	late := f.Follow("")
	<-late.News() // a follower that comes after the end does not wait for ever
}
