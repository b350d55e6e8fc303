// Package cli is the command line: it turns arguments into calls of the
// client, and answers into words and tables, or JSON for programs.
package cli
