package cputime

import (
	"syscall"
	"testing"
	"time"
)

// Used returns the processor time that this process has used so far, of all cores.
func Used(t testing.TB) time.Duration {
	t.Helper()
	var r syscall.Rusage
	if err := syscall.Getrusage(syscall.RUSAGE_SELF, &r); err != nil {
		t.Fatal(err)
	}
	return time.Duration(r.Utime.Nano() + r.Stime.Nano())
}
