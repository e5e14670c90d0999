package service

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"
)

// Collector gives the service's own metrics: legs by stage and devices by state, read
// from the database when they are asked for.
func (s *Service) Collector() prometheus.Collector { return collector{s} }

type collector struct{ s *Service }

var (
	legsDesc    = prometheus.NewDesc("tessellant_legs", "Legs that are not done, by stage.", []string{"stage"}, nil)
	devicesDesc = prometheus.NewDesc("tessellant_devices", "Devices, by state.", []string{"state"}, nil)
	endedDesc   = prometheus.NewDesc("tessellant_legs_done", "Legs that are done, by verdict.", []string{"verdict"}, nil)
)

func (c collector) Describe(d chan<- *prometheus.Desc) {
	d <- legsDesc
	d <- devicesDesc
	d <- endedDesc
}

func (c collector) Collect(m chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	for _, q := range []struct {
		desc *prometheus.Desc
		read func(context.Context) (map[string]int, error)
	}{{legsDesc, c.s.Store.CountStages}, {devicesDesc, c.s.Store.CountDevices}, {endedDesc, c.s.Store.CountVerdicts}} {
		counts, err := q.read(ctx)
		if err != nil {
			c.s.Log.Warn("a metric can't be read", "err", err)
			continue
		}
		for label, n := range counts {
			m <- prometheus.MustNewConstMetric(q.desc, prometheus.GaugeValue, float64(n), label)
		}
	}
}
