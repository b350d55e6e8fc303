package mapping

import (
	"regexp"
	"testing"

	"koinos/core/finding"
)

// What the advice about a finding says to write into a mapping can be written there.
func TestAdviceCanBeTyped(t *testing.T) {
	written := regexp.MustCompile(`findings: \{\w+: \w+\}`)
	tried := 0
	for code, about := range finding.Catalogue {
		for _, line := range written.FindAllString(about.Advice, -1) {
			tried++
			_, err := Parse([]byte("koinos: mapping/1\nname: x\norders: {kind: sales, group: {by: key, columns: A}}\n" + line +
				"\nheader: {sender_number: {from: A}, partner: {value: P}}\nlines: {item: {from: B}, quantity: {from: C}}\n"))
			if err != nil {
				t.Errorf("the advice about %s says %s, which is refused: %v", code, line, err)
			}
		}
	}
	if tried < 4 {
		t.Errorf("only %d pieces of advice were found", tried)
	}
}
