// Package tree holds a document, or a record of one, as a tree of values with their places. JSON and X12 share this
// form: a path of either finds its values in it, and a mapping reads both in the same way.
package tree
