// Package cli is the command line: it turns arguments into calls of the
// client, and answers into words and tables, or JSON for programs. The
// commands stand in packages of their own, by what they are about; what they
// share is in package shell.
package cli
