// Package listing writes orders as rows with columns that somebody chooses by name, without a mapping.
package listing
