package work

import (
	"time"

	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promauto"

	"proudsieve/core/budget"
	"proudsieve/service/files"
	"proudsieve/service/records"
)

// What the service tells of its work at /metrics.
var (
	jobsEnded = promauto.NewCounterVec(prometheus.CounterOpts{Name: "proudsieve_jobs_ended_total",
		Help: "Attempts at jobs that ended, by kind and outcome."}, []string{"kind", "outcome"})
	jobsWaited = promauto.NewHistogramVec(prometheus.HistogramOpts{Name: "proudsieve_job_waiting_seconds",
		Help: "How long jobs were queued before an attempt.", Buckets: prometheus.ExponentialBuckets(0.05, 4, 9)},
		[]string{"kind"})
	jobsRan = promauto.NewHistogramVec(prometheus.HistogramOpts{Name: "proudsieve_job_running_seconds",
		Help: "How long attempts at jobs ran.", Buckets: prometheus.ExponentialBuckets(0.05, 4, 9)}, []string{"kind"})
	rowsRead = promauto.NewCounterVec(prometheus.CounterOpts{Name: "proudsieve_rows_read_total",
		Help: "Rows read by jobs, in the last reading of each."}, []string{"kind"})
	bytesRead = promauto.NewCounterVec(prometheus.CounterOpts{Name: "proudsieve_bytes_read_total",
		Help: "Bytes read by jobs."}, []string{"kind"})
)

var storeBytes = promauto.NewGauge(prometheus.GaugeOpts{Name: "proudsieve_store_bytes",
	Help: "Bytes in the file store, at its last sweep."})

var diskFree = promauto.NewGauge(prometheus.GaugeOpts{Name: "proudsieve_store_free_bytes",
	Help: "Bytes that may still be written to the disk of the file store."})

// tellDisk tells how much room there is, as of now.
func tellDisk(f files.Store) {
	if disk, err := f.Disk(); err == nil {
		diskFree.Set(float64(disk.Free))
	}
}

func init() {
	promauto.NewGaugeFunc(prometheus.GaugeOpts{Name: "proudsieve_memory_budget_bytes",
		Help: "Memory that jobs and questions may take together."},
		func() float64 { return float64(budget.Process().Limit()) })
	promauto.NewGaugeFunc(prometheus.GaugeOpts{Name: "proudsieve_memory_budget_used_bytes",
		Help: "Memory that jobs and questions have taken."}, func() float64 { return float64(budget.Process().Used()) })
}

func jobEnded(j *records.Job, outcome string, started time.Time, rows, bytes int64) {
	jobsEnded.WithLabelValues(j.Kind, outcome).Inc()
	jobsRan.WithLabelValues(j.Kind).Observe(time.Since(started).Seconds())
	if j.Attempt == 1 {
		jobsWaited.WithLabelValues(j.Kind).Observe(max(0, started.Sub(j.CreatedAt).Seconds()))
	}
	rowsRead.WithLabelValues(j.Kind).Add(float64(rows))
	bytesRead.WithLabelValues(j.Kind).Add(float64(max(bytes, 0)))
}
