// Package plan works out how a record of another system becomes what it should be. From what is wanted and what was
// found there, it works out the calls that are due, in their order. If nothing is due, there is no call.
package plan
