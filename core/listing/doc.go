// Package listing lays orders out as rows of columns that somebody chooses by name, without a mapping.
package listing
