// Package backup copies a data folder while a service works in it, brings a copy
// back, and checks that a data folder is whole.
package backup
