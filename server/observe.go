package server

import (
	"context"
	"sync"
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/collectors"

	"innergate/core/checkup"
)

// observe makes the figures that /metrics tells.
func (s *Server) observe() {
	s.requests = prometheus.NewHistogramVec(
		prometheus.HistogramOpts{
			Name:    "innergate_request_seconds",
			Help:    "Time that requests took.",
			Buckets: []float64{.002, .005, .01, .025, .05, .1, .25, .5, 1, 2.5},
		},
		[]string{"route", "status"},
	)
	counter := func(name, help string, value func() float64) prometheus.Collector {
		return prometheus.NewCounterFunc(prometheus.CounterOpts{Name: name, Help: help}, value)
	}
	s.registry.MustRegister(
		s.requests,
		collectors.NewGoCollector(),
		collectors.NewProcessCollector(collectors.ProcessCollectorOpts{}),
		counter(
			"innergate_sign_ins_begun_total",
			"Sign-ins that were begun.",
			func() float64 { return float64(s.Gate.Metrics.Begun.Load()) },
		),
		counter(
			"innergate_sign_ins_completed_total",
			"Sign-ins that ended well.",
			func() float64 { return float64(s.Gate.Metrics.SignedIn.Load()) },
		),
		counter(
			"innergate_traces_lost_total",
			"Traces that were not kept, so that sign-ins go on.",
			func() float64 { return float64(s.Gate.Metrics.TracesLost.Load()) },
		),
		counter(
			"innergate_sign_ins_turned_away_total",
			"People who were told to try again, since more signed in than the machine can serve.",
			func() float64 { return float64(s.crowd.away.Load()) },
		),
		counter(
			"innergate_sign_ins_refused_total",
			"Sign-ins that ended in a failure.",
			func() float64 { return float64(s.Gate.Metrics.Refused.Load()) },
		),
	)
	gauge := func(name, help string, value func() float64, labels prometheus.Labels) {
		s.registry.MustRegister(prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help, ConstLabels: labels}, value))
	}
	for file, size := range map[string]func() int64{
		"records": s.Gate.Store.Size, "records-log": s.Gate.Store.LogNow,
		"traces": s.Gate.Store.Traces.Size, "traces-log": s.Gate.Store.Traces.LogNow,
	} {
		gauge("innergate_store_bytes", "Size of each file of the store.", func() float64 { return float64(size()) },
			prometheus.Labels{"file": file})
	}
	var held heldCounts
	for _, severity := range []string{string(checkup.Broken), string(checkup.Attention), string(checkup.Remark)} {
		gauge("innergate_findings", "What the checkup found and nobody has accepted.", func() float64 {
			return float64(held.of(severity, s.Gate.Checkups.CountFindings))
		}, prometheus.Labels{"severity": severity})
	}
	var accounts heldCounts
	for _, state := range []string{"step", "approval", "due", "failed", "foreign", "ignored"} {
		gauge("innergate_accounts", "Accounts at applications, by how they stand.", func() float64 {
			return float64(accounts.of(state, s.Gate.Accounts.Standing))
		}, prometheus.Labels{"state": state})
	}
	if s.Gate.Node.Together != nil {
		s.observeNodes(gauge)
	}
	if s.NewestCopy != nil {
		gauge("innergate_backup_age_seconds", "Age of the newest copy that the service made by itself; -1 where there is none.",
			func() float64 {
				at := s.NewestCopy()
				if at.IsZero() {
					return -1
				}
				return time.Since(at).Seconds()
			}, nil)
	}
}

// observeNodes tells of the nodes that keep the records together.
func (s *Server) observeNodes(gauge func(name, help string, value func() float64, labels prometheus.Labels)) {
	var held heldCounts
	for name, help := range map[string]string{
		"members": "Nodes that keep the records together.", "answering": "Of these, those that run and answer.",
		"voting": "Of these, those that vote.", "leading": "Whether this node leads.",
		"findings": "What is wrong with the nodes.",
	} {
		gauge("innergate_nodes_"+name, help, func() float64 { return float64(held.of(name, s.Gate.Node.Count)) }, nil)
	}
}

// heldCounts keeps counts for a while: however often the figures are asked for, the database is not.
type heldCounts struct {
	mu     sync.Mutex
	counts map[string]int64
	until  time.Time
}

const countsHeld = 20 * time.Second

func (h *heldCounts) of(key string, count func(context.Context) (map[string]int64, error)) int64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	if time.Now().After(h.until) {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if fresh, err := count(ctx); err == nil {
			h.counts = fresh
		}
		h.until = time.Now().Add(countsHeld)
	}
	return h.counts[key]
}
