// Package upkeep keeps the service in order: its metrics, backups, and how long evidence is kept.
package upkeep

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"tessellant/internal/blobs"
	"tessellant/internal/store"
)

// Upkeep is that room.
type Upkeep struct {
	Store   *store.Store
	Blobs   *blobs.Store
	Log     *slog.Logger
	Version string
}

// Collector gives the service's own metrics. They are read from the database now and then, however often they are asked for.
func (s *Upkeep) Collector() prometheus.Collector { return &collector{s: s} }

type collector struct {
	s *Upkeep

	mu   sync.Mutex
	at   time.Time
	kept []prometheus.Metric
}

// metricsLast is how long what was read is taken for true.
const metricsLast = 30 * time.Second

// byLabel are the metrics that count rows by one label.
var byLabel = []struct {
	desc *prometheus.Desc
	read func(*store.Store, context.Context) (map[string]int, error)
}{
	{prometheus.NewDesc("tessellant_legs", "Legs that are not done, by stage.", []string{"stage"}, nil), (*store.Store).CountStages},
	{prometheus.NewDesc("tessellant_legs_done", "Legs that are done, by verdict.", []string{"verdict"}, nil), (*store.Store).CountVerdicts},
	{prometheus.NewDesc("tessellant_attempts_done", "Attempts that are done, by verdict.", []string{"verdict"}, nil), (*store.Store).CountAttempts},
	{prometheus.NewDesc("tessellant_devices", "Devices, by state.", []string{"state"}, nil), (*store.Store).CountDevices},
	{prometheus.NewDesc("tessellant_sessions", "Sessions that are not over, by whether they have a device.", []string{"state"}, nil), (*store.Store).CountSessionStates},
	{prometheus.NewDesc("tessellant_hosts", "Hosts, by state.", []string{"state"}, nil), (*store.Store).CountHosts},
	{prometheus.NewDesc("tessellant_forecasts", "Runs of the last 30 days that ended by themselves, by how they came out against their forecast.", []string{"result"}, nil), (*store.Store).CountForecasts},
}

var (
	waitDesc     = prometheus.NewDesc("tessellant_waiting_seconds", "How long the leg that has waited longest for a device has waited.", nil, nil)
	overdueDesc  = prometheus.NewDesc("tessellant_overdue_devices", "Devices that are held for longer than the work on them may take.", nil, nil)
	evidenceDesc = prometheus.NewDesc("tessellant_evidence_bytes", "Evidence that is kept.", nil, nil)
	roomDesc     = prometheus.NewDesc("tessellant_storage_free_bytes", "Room for builds and evidence, the reserve taken off; only where they lie in a folder.", nil, nil)
)

func (c *collector) Describe(d chan<- *prometheus.Desc) {
	for _, m := range byLabel {
		d <- m.desc
	}
	d <- waitDesc
	d <- overdueDesc
	d <- evidenceDesc
	d <- roomDesc
}

func (c *collector) Collect(m chan<- prometheus.Metric) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if time.Since(c.at) > metricsLast {
		c.kept, c.at = c.read(), time.Now()
	}
	for _, x := range c.kept {
		m <- x
	}
}

func (c *collector) read() (m []prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	gauge := func(desc *prometheus.Desc, v float64, err error, labels ...string) {
		if err != nil {
			c.s.Log.Warn("a metric can't be read", "err", err)
			return
		}
		m = append(m, prometheus.MustNewConstMetric(desc, prometheus.GaugeValue, v, labels...))
	}
	for _, q := range byLabel {
		counts, err := q.read(c.s.Store, ctx)
		if err != nil {
			gauge(q.desc, 0, err)
		}
		for label, n := range counts {
			gauge(q.desc, float64(n), nil, label)
		}
	}
	wait, err := c.s.Store.LongestWait(ctx)
	gauge(waitDesc, float64(wait), err)
	overdue, err := c.s.Store.CountOverdue(ctx)
	gauge(overdueDesc, float64(overdue), err)
	bytes, err := c.s.Store.ArtifactBytes(ctx)
	gauge(evidenceDesc, float64(bytes), err)
	if free := c.s.Blobs.Free(); free >= 0 {
		gauge(roomDesc, float64(free), nil)
	}
	return m
}
