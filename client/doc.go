// Package client calls Koinos's HTTP API. Its types are those of package api, which the service uses too, so that the
// two always agree.
package client
