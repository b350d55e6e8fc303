// Package jobs is one durable queue for whatever must go on however a service
// ends: loads, runs of sequences, interchanges. A job is in the store before its
// work begins; it is claimed, tried again later where what stopped it may pass,
// paused where it will not, and gone when it is done.
package jobs
