// Package system describes another application: where it is, how to sign in, what it
// has and how its lists go on. From a description it makes requests and reads answers;
// it makes no connection itself.
package system
