package service

import (
	"strconv"

	"github.com/prometheus/client_golang/prometheus"

	"koinos/syncs"
)

// systemFigures are what is counted of other systems; it is a prometheus.Collector.
type systemFigures struct{ syncs *syncs.Syncs }

func described(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("koinos_system_"+name, help, append([]string{"system"}, labels...), nil)
}

var (
	systemAway     = described("away", "1 while the system does not answer.")
	systemCalls    = described("calls_total", "Calls; status 0 is no answer.", "method", "status")
	systemTook     = described("call_seconds_total", "Time that calls took.")
	systemWaited   = described("wait_seconds_total", "Time that calls waited for the system's limits.")
	systemArrivals = described("arrivals_total", "Records that came and were new.", "record", "state")
	systemHooks    = described("hooks_total", "Webhooks by what became of them.", "outcome")
)

// Describe is part of prometheus.Collector.
func (f systemFigures) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{systemAway, systemCalls, systemTook, systemWaited, systemArrivals,
		systemHooks} {
		to <- d
	}
}

// Collect is part of prometheus.Collector.
func (f systemFigures) Collect(to chan<- prometheus.Metric) {
	for _, y := range f.syncs.Figures() {
		count := func(d *prometheus.Desc, v float64, labels ...string) {
			to <- prometheus.MustNewConstMetric(d, prometheus.CounterValue, v, append([]string{y.System}, labels...)...)
		}
		away := 0.0
		if y.Away {
			away = 1
		}
		to <- prometheus.MustNewConstMetric(systemAway, prometheus.GaugeValue, away, y.System)
		for k, n := range y.Calls {
			count(systemCalls, float64(n), k.Method, strconv.Itoa(k.Status))
		}
		count(systemTook, y.Took.Seconds())
		count(systemWaited, y.Waited.Seconds())
		for k, n := range y.Arrivals {
			count(systemArrivals, float64(n), k.Record, k.State)
		}
		for outcome, n := range map[string]int{"taken": y.Hooks.Taken, "repeated": y.Hooks.Repeated,
			"passed over": y.Hooks.Passed, "refused": y.Hooks.Refused} {
			count(systemHooks, float64(n), outcome)
		}
	}
}
