// Package metrics gives counts of the picture to watchers of the service.
package metrics

import (
	"context"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"mossledger.example/moss/internal/records"
)

// Counts gives counts of the picture as metrics.
type Counts struct {
	overview func(context.Context) (records.Overview, error)
}

// New makes Counts of an overview.
func New(overview func(context.Context) (records.Overview, error)) *Counts {
	return &Counts{overview}
}

var (
	metricSystems  = prometheus.NewDesc("moss_systems", "Systems by state of their latest reading.", []string{"state"}, nil)
	metricAccounts = prometheus.NewDesc("moss_accounts", "Accounts that are there.", nil, nil)
	metricCustody  = prometheus.NewDesc("moss_custody", "Accounts in custody.", nil, nil)
	metricFindings = prometheus.NewDesc("moss_findings", "Open findings by severity.", []string{"severity"}, nil)
)

// Describe implements prometheus.Collector.
func (p *Counts) Describe(out chan<- *prometheus.Desc) {
	out <- metricSystems
	out <- metricAccounts
	out <- metricCustody
	out <- metricFindings
}

// Collect implements prometheus.Collector.
func (p *Counts) Collect(out chan<- prometheus.Metric) {
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	v, err := p.overview(ctx)
	if err != nil {
		out <- prometheus.NewInvalidMetric(metricAccounts, err)
		return
	}
	out <- prometheus.MustNewConstMetric(metricAccounts, prometheus.GaugeValue, float64(v.Accounts))
	out <- prometheus.MustNewConstMetric(metricCustody, prometheus.GaugeValue, float64(v.Custody))
	for state, n := range v.SystemStates {
		out <- prometheus.MustNewConstMetric(metricSystems, prometheus.GaugeValue, float64(n), state)
	}
	for severity, n := range v.Findings {
		out <- prometheus.MustNewConstMetric(metricFindings, prometheus.GaugeValue, float64(n), severity)
	}
}
