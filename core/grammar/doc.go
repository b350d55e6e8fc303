// Package grammar reads the YAML that people write for Koinos (mappings, sequences, systems) and checks it against a
// table of what is allowed where. The same table gives the messages, with line, column and the nearest known word, and
// a JSON Schema for editors.
package grammar
