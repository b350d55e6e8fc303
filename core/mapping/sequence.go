package mapping

import (
	"koinos/core/finding"
)

// SequenceVersion is the first line of every sequence.
const SequenceVersion = "sequence/1"

var sequenceGrammar = &shape{kind: object, about: "Several loads over one document, one after another", keys: []key{
	{"koinos", true, words("Version of the grammar", SequenceVersion)},
	{"name", true, some("Name of the sequence: small letters, digits and hyphens")},
	{"about", false, some("What the sequence is for, in a sentence")},
	{"steps", true, &shape{kind: listOf, about: "The loads, in their order",
		items: &shape{kind: object, about: "One load", keys: []key{
			{"step", true, some("Name of the step, by which later ones take its results: small letters, digits and hyphens")},
			{"mapping", true, some("Name of the mapping")},
		}}}},
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

// ParseSequence reads a sequence. Where it is wrong in any way the error is a
// finding.All with everything that is wrong, each at its line and column.
func ParseSequence(src []byte) (*Sequence, error) {
	root, bad := readYAML(src)
	if bad != nil {
		return nil, finding.All{*bad}
	}
	var m mistakes
	if sequenceGrammar.fit(root, "a sequence", &m); len(m.all) > 0 {
		return nil, m.all
	}
	s := &Sequence{Name: root.str("name"), About: root.str("about"), Text: string(src)}
	if !namePattern.MatchString(s.Name) {
		m.add(finding.MappingWrongValue, root.get("name").at, s.Name,
			"name must be of small letters, digits and hyphens, at most 64.")
	}
	seen := map[string]bool{}
	for _, n := range root.all("steps") {
		step := SequenceStep{n.str("step"), n.str("mapping")}
		if !namePattern.MatchString(step.Name) {
			m.add(finding.MappingWrongValue, n.at, step.Name,
				"step must be of small letters, digits and hyphens, at most 64.")
		}
		if seen[step.Name] {
			m.add(finding.MappingWrongValue, n.at, step.Name, "Two steps are called %q.", step.Name)
		}
		seen[step.Name] = true
		s.Steps = append(s.Steps, step)
	}
	if len(m.all) > 0 {
		return nil, m.all
	}
	return s, nil
}
