// Package corpus lays made-up orders out in the many ways in which people and
// programs write them down, and scores the mappings that drafting proposes for
// these documents. make draft-score prints the scores.
package corpus
