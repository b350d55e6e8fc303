// Package syncing reads standing instructions (koinos: sync/1): which records are read out
// of other systems and how often, and which orders are kept equal to which records.
package syncing
