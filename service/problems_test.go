package service

import (
	"testing"

	"koinos/core/finding"
	"koinos/core/origin"
)

// A problem lists so many findings that a program can read it, the errors among them first, and says how many there
// were.
func TestMostFindings(t *testing.T) {
	warned := make([]finding.Finding, mostFindings)
	for i := range warned {
		warned[i] = finding.New(finding.SpellingDiffers, origin.Place{Row: i + 1}, "", "spelled")
	}
	if p := because(problem("order_refused", "Why."), warned); p.Detail != "Why." || len(p.Findings) != mostFindings {
		t.Errorf("%s %d", p.Detail, len(p.Findings))
	}
	all := append(warned, finding.New(finding.NotANumber, origin.Place{Row: 9_999}, "", "wrong"))
	p := because(problem("order_refused", "Why."), all)
	if p.Detail != "Why. These are the first 1000 of 1001." || len(p.Findings) != mostFindings ||
		p.Findings[0].Code != finding.NotANumber || p.Findings[1].Place.Row != 1 || all[0].Code != finding.SpellingDiffers {
		t.Errorf("%s %d %+v", p.Detail, len(p.Findings), p.Findings[:2])
	}
}
