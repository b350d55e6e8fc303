// Package jobs is one durable queue for everything that must go on whenever a service ends: loads, runs of sequences,
// interchanges. A job is in the store before its work begins. It is claimed, tried again later if what stopped it may
// pass, paused if it will not, and deleted when it is done.
package jobs
