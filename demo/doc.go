// Package demo is the scenario of Quillmere Chandlery: its lists, mappings and
// partners' documents, and what must come out when they are loaded.
package demo
