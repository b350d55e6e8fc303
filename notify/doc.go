// Package notify tells subscribers what happens to orders, by webhooks that are signed according to Standard Webhooks:
// each event once to each subscriber, tried for a day with the same id.
package notify
