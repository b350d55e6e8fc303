// Package remote calls other applications over HTTP as their descriptions say. It signs in, keeps to the rate limits,
// waits when it is told to, repeats what may succeed later, and reads no more of an answer than is allowed.
package remote
