// Package documents has the commands about documents and loads: what is in them, the mappings and lists that read them,
// and what became of them.
package documents
