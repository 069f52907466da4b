// Package engines runs engines for messages, one or a cluster of them, for tests.
package engines

import (
	"fmt"
	"net"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"
)

// Cluster is some that run until the test ends.
type Cluster struct {
	URL     string // of all of them
	t       testing.TB
	nodes   []*server.Server
	options []*server.Options
}

// Start starts so many, each with a folder of its own.
func Start(t testing.TB, count int) *Cluster {
	c := &Cluster{t: t}
	var routes []*url.URL
	ports := freePorts(t, count)
	for _, port := range ports {
		routes = append(routes, &url.URL{Scheme: "nats", Host: fmt.Sprintf("127.0.0.1:%d", port)})
	}
	var urls []string
	for i := range count {
		o := &server.Options{
			ServerName: fmt.Sprint(
				"engine-",
				i,
			),
			Host:      "127.0.0.1",
			Port:      server.RANDOM_PORT,
			NoSigs:    true,
			NoLog:     true,
			JetStream: true,
			StoreDir:  t.TempDir(),
		}
		if count > 1 {
			o.Cluster = server.ClusterOpts{Name: "harbour", Host: "127.0.0.1", Port: ports[i]}
			o.Routes = routes
		}
		node, err := server.NewServer(o)
		require.NoError(t, err)
		node.Start()
		t.Cleanup(func() { c.Kill(i) })
		require.True(t, node.ReadyForConnections(10*time.Second))
		o.Port = node.Addr().(*net.TCPAddr).Port
		c.nodes, c.options, urls = append(c.nodes, node), append(c.options, o), append(urls, node.ClientURL())
	}
	c.URL = strings.Join(urls, ",")
	require.Eventually(t, func() bool {
		for _, node := range c.nodes {
			if count == 1 || node.JetStreamIsLeader() {
				return true
			}
		}
		return false
	}, 30*time.Second, 50*time.Millisecond, "they choose no leader")
	return c
}

// freePorts are some that nobody listened at just now: a cluster has to know them before it starts.
func freePorts(t testing.TB, count int) (ports []int) {
	for range count {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		defer l.Close()
		ports = append(ports, l.Addr().(*net.TCPAddr).Port)
	}
	return ports
}

// Kill ends one.
func (c *Cluster) Kill(i int) {
	c.nodes[i].Shutdown()
	c.nodes[i].WaitForShutdown()
}

// Restart starts one again, with what it kept, where it was.
func (c *Cluster) Restart(i int) {
	node, err := server.NewServer(c.options[i])
	require.NoError(c.t, err)
	node.Start()
	c.nodes[i] = node
	require.True(c.t, node.ReadyForConnections(10*time.Second))
}
