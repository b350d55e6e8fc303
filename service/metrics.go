package service

import (
	"strconv"
	"time"

	"github.com/gin-gonic/gin"
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"koinos/load"
)

type metrics struct {
	registry *prometheus.Registry
	requests *prometheus.HistogramVec
}

func newMetrics(engine *load.Engine, figures ...prometheus.Collector) *metrics {
	m := &metrics{
		registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(prometheus.HistogramOpts{
			Name: "koinos_request_seconds", Help: "Time to answer requests.", Buckets: prometheus.DefBuckets,
		}, []string{"method", "route", "status"}),
	}
	m.registry.MustRegister(figures...)
	m.registry.MustRegister(m.requests, collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "koinos_orders_loaded_total",
			Help: "Orders stored since the service started."},
			func() float64 { return float64(engine.Total().Loaded) }),
		prometheus.NewCounterFunc(prometheus.CounterOpts{Name: "koinos_orders_refused_total",
			Help: "Orders refused in loads and dry runs since the service started."},
			func() float64 { return float64(engine.Total().Refused) }),
	)
	return m
}

func (m *metrics) request(method, route string, status int, took time.Duration) {
	m.requests.WithLabelValues(method, route, strconv.Itoa(status)).Observe(took.Seconds())
}

func (m *metrics) handler() gin.HandlerFunc {
	return gin.WrapH(promhttp.HandlerFor(m.registry, promhttp.HandlerOpts{}))
}
