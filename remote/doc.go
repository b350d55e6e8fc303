// Package remote calls other applications over HTTP as their descriptions say: it signs
// in, goes no faster than it may, waits when it is told to, tries again what may pass,
// and takes no more of an answer than it was allowed.
package remote
