// Package systems has the commands about other applications that hold orders, and the syncs between them.
package systems
