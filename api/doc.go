// Package api is what goes over the wire between the service and its clients: requests, answers and problems.
package api
