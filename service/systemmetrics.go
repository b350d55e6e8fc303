package service

import (
	"context"
	"strconv"

	"github.com/prometheus/client_golang/prometheus"

	"koinos/api"
	"koinos/store"
	"koinos/syncs"
)

// systemFigures are the counts for other systems; it is a prometheus.Collector.
type systemFigures struct {
	syncs *syncs.Syncs
	store *store.Store
}

func described(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("koinos_system_"+name, help, append([]string{"system"}, labels...), nil)
}

var (
	systemAway     = described("away", "1 while the system does not answer.")
	systemCalls    = described("calls_total", "Calls; status 0 is no answer.", "method", "status")
	systemTook     = described("call_seconds_total", "Time that calls took.")
	systemWaited   = described("wait_seconds_total", "Time that calls waited for the system's limits.")
	systemArrivals = described("arrivals_total", "Records that came and were new.", "record", "state")
	systemLag      = described("lag_seconds", "From the stamp of the record that came last to when it came.", "record")
	systemHooks    = described("hooks_total", "Webhooks by what became of them.", "outcome")
)

// messages are those to subscribers.
var messages = prometheus.NewDesc("koinos_deliveries", "Messages to subscribers that are kept, by state.",
	[]string{"subscription", "state"}, nil)

// For syncs: what waits, what is held, and how long the oldest entry has waited.
var (
	syncTasks = prometheus.NewDesc("koinos_sync_orders",
		"Orders of a sync that wait to be written, are held, or were put aside.",
		[]string{"sync", "state"}, nil)
	syncLag = prometheus.NewDesc("koinos_sync_lag_seconds", "How long the order that has waited longest has waited.",
		[]string{"sync"}, nil)
)

func (f systemFigures) collectSyncs(to chan<- prometheus.Metric) {
	ctx := context.Background()
	versions, err := f.store.SyncVersions(ctx)
	for name := range versions {
		kept, failed := f.store.Sync(ctx, name, 0)
		if failed == nil {
			kept, failed = f.syncs.DescribeSync(ctx, kept)
		}
		if err = failed; err != nil {
			break
		}
		n := kept.State.Counts
		for state, count := range map[string]int{"waiting": n.Waiting, "held": n.Held, "aside": n.Aside} {
			to <- prometheus.MustNewConstMetric(syncTasks, prometheus.GaugeValue, float64(count), name, state)
		}
		to <- prometheus.MustNewConstMetric(syncLag, prometheus.GaugeValue, kept.State.Lag, name)
	}
	if err != nil {
		to <- prometheus.NewInvalidMetric(syncTasks, err)
	}
}

// Describe is part of prometheus.Collector.
func (f systemFigures) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{systemAway, systemCalls, systemTook, systemWaited, systemArrivals,
		systemLag, systemHooks, messages, syncTasks, syncLag} {
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
		for record, lag := range y.Lag {
			to <- prometheus.MustNewConstMetric(systemLag, prometheus.GaugeValue, lag.Seconds(), y.System, record)
		}
		for outcome, n := range map[string]int{"taken": y.Hooks.Taken, "repeated": y.Hooks.Repeated,
			"passed over": y.Hooks.Passed, "refused": y.Hooks.Refused} {
			count(systemHooks, float64(n), outcome)
		}
	}
	f.collectMessages(to)
	f.collectSyncs(to)
}

func (f systemFigures) collectMessages(to chan<- prometheus.Metric) {
	all, err := f.store.Subscriptions(context.Background())
	if err != nil {
		to <- prometheus.NewInvalidMetric(messages, err)
		return
	}
	for _, y := range all {
		for state, n := range map[string]int{api.DeliveryWaiting: y.Counts.Waiting,
			api.DeliveryDelivered: y.Counts.Delivered,
			api.DeliveryFailed:    y.Counts.Failed} {
			to <- prometheus.MustNewConstMetric(messages, prometheus.GaugeValue, float64(n), y.Name, state)
		}
	}
}
