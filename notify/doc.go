// Package notify tells subscribers what happens to orders, by webhooks that are signed as
// Standard Webhooks has it: each event once to each, tried for a day with the same id.
package notify
