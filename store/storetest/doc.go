// Package storetest opens stores for tests.
package storetest
