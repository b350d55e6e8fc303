// Package origin says where something came from: the document and the place in it, the mapping and lists through which
// it was read, the load, transaction set or request that brought it, and the person or program behind it.
package origin
