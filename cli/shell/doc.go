// Package shell has what the commands share: how they reach the service, write their answers, read files that are
// named to them, and end.
package shell
