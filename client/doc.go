// Package client calls Koinos's HTTP API. Its types are what goes over the
// wire; the service uses the same ones, so the two cannot drift apart.
package client
