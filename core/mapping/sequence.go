package mapping

import (
	"koinos/core/finding"
	"koinos/core/grammar"
)

// SequenceVersion is the first line of every sequence.
const SequenceVersion = "sequence/1"

var sequenceGrammar = &grammar.Shape{Kind: grammar.Object, About: "Several loads over one document, one after another",
	Keys: []grammar.Key{
		grammar.Must("koinos", grammar.OneOf("Version of the grammar", SequenceVersion)),
		grammar.Must("name", grammar.Some("Name of the sequence: small letters, digits and hyphens")),
		grammar.May("about", grammar.Some("What the sequence is for, in a sentence")),
		grammar.Must("steps", &grammar.Shape{Kind: grammar.ListOf, About: "The loads, in their order",
			Items: &grammar.Shape{Kind: grammar.Object, About: "One load", Keys: []grammar.Key{
				grammar.Must("step", grammar.Some("Name of the step, by which later ones take its results: small "+
					"letters, digits and hyphens")),
				grammar.Must("mapping", grammar.Some("Name of the mapping")),
			}}}),
	}}

// Sequence is a parsed sequence.
type Sequence struct {
	Name, About string
	Text        string
	Steps       []SequenceStep
}

// SequenceStep is one load of a sequence.
type SequenceStep struct {
	Name    string `json:"step"`
	Mapping string `json:"mapping"`
}

// ParseSequence reads a sequence. If it is wrong in any way, the error is a finding.All with everything that is wrong,
// each at its line and column.
func ParseSequence(src []byte) (*Sequence, error) {
	root, bad := grammar.Read(src, "sequence", SequenceVersion)
	if bad != nil {
		return nil, finding.All{*bad}
	}
	var m grammar.Mistakes
	sequenceGrammar.Fit(root, "a sequence", &m)
	if err := m.Err(); err != nil {
		return nil, err
	}
	s := &Sequence{Name: root.Str("name"), About: root.Str("about"), Text: string(src)}
	if !namePattern.MatchString(s.Name) {
		m.Add(finding.MappingWrongValue, root.Get("name").At, s.Name,
			"name must be of small letters, digits and hyphens, at most 64.")
	}
	seen := map[string]bool{}
	for _, n := range root.List("steps") {
		step := SequenceStep{n.Str("step"), n.Str("mapping")}
		if !namePattern.MatchString(step.Name) {
			m.Add(finding.MappingWrongValue, n.At, step.Name,
				"step must be of small letters, digits and hyphens, at most 64.")
		}
		if seen[step.Name] {
			m.Add(finding.MappingWrongValue, n.At, step.Name, "Two steps are called %q.", step.Name)
		}
		seen[step.Name] = true
		s.Steps = append(s.Steps, step)
	}
	if err := m.Err(); err != nil {
		return nil, err
	}
	return s, nil
}
