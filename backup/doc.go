// Package backup copies a data folder while a service is using it, restores a copy, and checks that a data folder is
// whole.
package backup
