// Package syncs brings what other applications have into the books: it pulls records, stores each as an arrival, byte
// for byte, and passes them to loads. It alone knows both the store and the network.
package syncs
