// Package running has the commands that run the service and look after its data.
package running
