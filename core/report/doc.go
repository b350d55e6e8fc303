// Package report is what a load has to say, for people and for programs: its
// outcome for every order and row, its findings, its reasons, as text, JSON,
// CSV, and as a marked-up copy of the partner's own document.
package report
