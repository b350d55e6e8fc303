// Package cputime measures the processor time that tests and benchmarks use.
package cputime
