package api

import (
	"context"
	"regexp"

	"bagaglio/core/storage"
	"bagaglio/internal/service"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"
)

var (
	jobsDesc    = prometheus.NewDesc("bagaglio_jobs", "Jobs on record by state.", []string{"state"}, nil)
	freeDesc    = prometheus.NewDesc("bagaglio_pool_free_bytes", "Room that is free in a pool.", []string{"pool"}, nil)
	recordsDesc = prometheus.NewDesc(
		"bagaglio_records_writable",
		"Whether the records can be written: 1, or 0 when jobs wait for that.",
		nil,
		nil,
	)
	writeDesc = prometheus.NewDesc(
		"bagaglio_records_longest_write_seconds",
		"The longest time for which one transaction kept others from writing.",
		nil,
		nil,
	)
	porterDesc = prometheus.NewDesc("bagaglio_porter_connected", "Whether a porter is connected: 1, or 0.", []string{"porter"}, nil)
	errandDesc = prometheus.NewDesc("bagaglio_porter_jobs", "Jobs that a porter does now.", []string{"porter"}, nil)
	lineDesc   = prometheus.NewDesc(
		"bagaglio_line_speed_bytes", "Bytes a second that one porter reads from another one with, as measured.", []string{"from", "to"}, nil,
	)
	flowDesc = prometheus.NewDesc(
		"bagaglio_line_flow_bytes",
		"Bytes a second that go over a line between two porters now.",
		[]string{"from", "to"},
		nil,
	)
	totalDesc = prometheus.NewDesc("bagaglio_pool_total_bytes", "Room that a pool has.", []string{"pool"}, nil)
)

// metrics serves the figures for Prometheus.
func metrics(s *service.Service) gin.HandlerFunc {
	r := prometheus.NewRegistry()
	r.MustRegister(collector{s}, collectors.NewGoCollector(collectors.WithGoCollectorRuntimeMetrics(
		collectors.GoRuntimeMetricsRule{Matcher: regexp.MustCompile(`^/gc/heap/live:bytes$`)}, // what the last collection left
	)), collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}))
	return gin.WrapH(promhttp.HandlerFor(r, promhttp.HandlerOpts{}))
}

type collector struct{ service *service.Service }

func (c collector) Describe(out chan<- *prometheus.Desc) { prometheus.DescribeByCollect(c, out) }

func (c collector) Collect(out chan<- prometheus.Metric) {
	ctx := context.Background()
	writable := 1.0
	if _, problem := c.service.Records.Unwell(); problem != nil {
		writable = 0
	}
	out <- prometheus.MustNewConstMetric(recordsDesc, prometheus.GaugeValue, writable)
	counts, err := c.service.Records.CountJobs(ctx)
	if err != nil {
		out <- prometheus.NewInvalidMetric(jobsDesc, err)
		return
	}
	for state, n := range counts {
		out <- prometheus.MustNewConstMetric(jobsDesc, prometheus.GaugeValue, float64(n), string(state))
	}
	out <- prometheus.MustNewConstMetric(writeDesc, prometheus.GaugeValue, c.service.Records.LongestWrite().Seconds())
	c.porters(ctx, out)
	pools, err := c.service.Places.Pools(ctx)
	if err != nil {
		out <- prometheus.NewInvalidMetric(freeDesc, err)
		return
	}
	for _, p := range pools {
		if p.Problem == nil && p.Space.Total != storage.Unknown {
			out <- prometheus.MustNewConstMetric(freeDesc, prometheus.GaugeValue, float64(p.Space.Free), p.Name)
			out <- prometheus.MustNewConstMetric(totalDesc, prometheus.GaugeValue, float64(p.Space.Total), p.Name)
		}
	}
}

func (c collector) porters(ctx context.Context, out chan<- prometheus.Metric) {
	all, err := c.service.Porters.List(ctx)
	if err != nil {
		out <- prometheus.NewInvalidMetric(porterDesc, err)
		return
	}
	for _, p := range all {
		connected := 0.0
		if p.Connected {
			connected = 1
		}
		out <- prometheus.MustNewConstMetric(porterDesc, prometheus.GaugeValue, connected, p.Name)
		out <- prometheus.MustNewConstMetric(errandDesc, prometheus.GaugeValue, float64(len(p.Jobs)), p.Name)
	}
	for _, l := range c.service.Porters.Lines() {
		flow := 0.0
		for _, f := range l.Jobs {
			flow += float64(f.Speed)
		}
		out <- prometheus.MustNewConstMetric(flowDesc, prometheus.GaugeValue, flow, l.From, l.To)
		if l.Speed > 0 {
			out <- prometheus.MustNewConstMetric(lineDesc, prometheus.GaugeValue, l.Speed, l.From, l.To)
		}
	}
}
