// Package plan works out how a record of another system becomes what it should be: from
// what is wanted and what was found there come the calls that are due, in their order.
// Where nothing is due there is no call.
package plan
