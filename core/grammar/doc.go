// Package grammar reads the YAML that people write for Koinos (mappings, sequences,
// systems) and compares it with a table of what may stand where. From the same table
// come the messages, with line, column and the nearest known word, and a JSON Schema
// for editors.
package grammar
