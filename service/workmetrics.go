package service

import (
	"context"
	"errors"
	"io"
	"os"
	"path/filepath"
	"slices"
	"syscall"
	"time"

	"github.com/prometheus/client_golang/prometheus"

	"koinos/api"
	"koinos/folder"
	"koinos/store"
)

// workFigures are what waits, failed, or is late, and how much room there is. It is a prometheus.Collector.
type workFigures struct {
	store *store.Store
	cfg   *Config
	now   func() time.Time
}

func figure(name, help string, labels ...string) *prometheus.Desc {
	return prometheus.NewDesc("koinos_"+name, help, labels, nil)
}

var (
	figureLoads = figure("loads", "Loads that have not ended, by status, and those that failed within the last day.",
		"status")
	figureHeld    = figure("held", "What is held and waits for a person, by kind.", "kind")
	figureJobs    = figure("jobs", "Jobs by kind and state.", "kind", "state")
	figureLate    = figure("job_late_seconds", "How long the job that is due longest has been due.", "kind", "state")
	figureOverdue = figure("interchanges_overdue", "Interchanges of ours that were not acknowledged in time.")
	figureOrders  = figure("orders", "Orders that were stored, undone ones included.")
	figureFiles   = figure("folder_files", "Files that wait in a watched folder, those that are being loaded included.",
		"folder")
	figureRoom    = figure("disk_free_bytes", "Room that is left on the disk of the data folder.")
	figureWrites  = figure("writes_total", "Turns of the one writer of the database.")
	figureWaited  = figure("writer_wait_seconds_total", "Time that work waited for its turn.")
	figureWrote   = figure("writer_held_seconds_total", "Time that turns took.")
	figureLongest = figure("writer_longest_seconds", "The longest turn since this was asked last.")
)

// Describe is part of prometheus.Collector.
func (f workFigures) Describe(to chan<- *prometheus.Desc) {
	for _, d := range []*prometheus.Desc{figureLoads, figureHeld, figureJobs, figureLate, figureOverdue, figureOrders,
		figureFiles,
		figureRoom, figureWrites, figureWaited, figureWrote, figureLongest} {
		to <- d
	}
}

// Collect is part of prometheus.Collector.
func (f workFigures) Collect(to chan<- prometheus.Metric) {
	is := func(d *prometheus.Desc, v float64, labels ...string) {
		to <- prometheus.MustNewConstMetric(d, prometheus.GaugeValue, v, labels...)
	}
	all, err := f.store.Figures(context.Background(), f.now())
	if err != nil {
		to <- prometheus.NewInvalidMetric(figureLoads, err)
		return
	}
	for _, status := range []string{"waiting", "running", "paused", "failed"} {
		is(figureLoads, float64(all.Loads[status]), status)
	}
	for _, kind := range []string{"order", "set", "notice", "push", "interchange"} {
		is(figureHeld, float64(all.Held[kind]), kind)
	}
	for _, kind := range []string{api.LoadJob, api.RunJob, api.InterchangeJob, api.PullJob, api.CheckJob} {
		for _, state := range []string{api.JobReady, api.JobWorking, api.JobPaused} {
			var j store.JobFigure // where there is none, the figure is 0
			if n := slices.IndexFunc(all.Jobs, func(j store.JobFigure) bool {
				return j.Kind == kind && j.State == state
			}); n >= 0 {
				j = all.Jobs[n]
			}
			is(figureJobs, float64(j.N), kind, state)
			is(figureLate, j.Late.Seconds(), kind, state)
		}
	}
	is(figureOverdue, float64(all.Overdue))
	is(figureOrders, float64(all.Orders))
	to <- prometheus.MustNewConstMetric(figureWrites, prometheus.CounterValue, float64(all.Writer.Writes))
	to <- prometheus.MustNewConstMetric(figureWaited, prometheus.CounterValue, all.Writer.Waited.Seconds())
	to <- prometheus.MustNewConstMetric(figureWrote, prometheus.CounterValue, all.Writer.Held.Seconds())
	is(figureLongest, all.Writer.Longest.Seconds())
	var disk syscall.Statfs_t
	if err := syscall.Statfs(f.cfg.Data, &disk); err != nil {
		to <- prometheus.NewInvalidMetric(figureRoom, err)
	} else {
		is(figureRoom, float64(disk.Bavail)*float64(disk.Bsize))
	}
	for _, dir := range f.folders() {
		n, err := waiting(dir)
		if err != nil {
			to <- prometheus.NewInvalidMetric(figureFiles, err)
			continue
		}
		is(figureFiles, float64(n), dir)
	}
}

// folders are the watched folders.
func (f workFigures) folders() (all []string) {
	for _, w := range f.cfg.Folders {
		all = append(all, w.Dir)
	}
	if f.cfg.Exchange != "" {
		partners, _ := filepath.Glob(filepath.Join(f.cfg.Exchange, "*", "in")) // the pattern is ours
		all = append(all, partners...)
	}
	return all
}

// mostCounted is how many files of a folder are counted.
const mostCounted = 100_000

// waiting counts the files of a watched folder that have not been loaded completely.
func waiting(dir string) (n int, err error) {
	for _, one := range []string{dir, filepath.Join(dir, folder.Working)} {
		d, err := os.Open(one)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		if err != nil {
			return n, err
		}
		entries, err := d.ReadDir(mostCounted)
		if err = errors.Join(noEnd(err), d.Close()); err != nil {
			return n, err
		}
		for _, e := range entries {
			if e.IsDir() == (one != dir) { // what is being loaded lies in a folder of its arrival
				n++
			}
		}
	}
	return n, nil
}

func noEnd(err error) error {
	if errors.Is(err, io.EOF) {
		return nil
	}
	return err
}
