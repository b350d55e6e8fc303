// Package e2e drives the real interfaces of the built program: its commands,
// its HTTP API, its console in a headless browser. Everything runs on loopback.
package e2e
