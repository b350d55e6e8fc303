package finding

import (
	"errors"
	"fmt"
	"unicode"
	"unicode/utf8"

	"koinos/core/origin"
)

// Severity says what a finding does to its order.
type Severity string

const (
	Error   Severity = "error"   // the order is refused
	Warning Severity = "warning" // the order goes in; somebody should look
)

// Finding is one thing that is wrong, or looks wrong, at one place. It is also an error, so that a fault that makes a
// whole document unreadable keeps its code and place.
type Finding struct {
	Code     Code         `json:"code" doc:"Stable code; docs/findings.md explains each"`
	Severity Severity     `json:"severity" enum:"error,warning"`
	Place    origin.Place `json:"place"`
	At       string       `json:"at" doc:"The place as a person says it, e.g. Orders!C17"`
	Order    int          `json:"order,omitempty" doc:"Which order of the document, counted from 1; 0 is none"`
	Number   string       `json:"number,omitempty" doc:"The sender's number of that order"`
	Line     int          `json:"line,omitempty" doc:"Which line of the order, counted from 1; 0 is the header"`
	Field    string       `json:"field,omitempty" doc:"Field of the order, e.g. ship_to.code"`
	Value    string       `json:"value,omitempty" doc:"The value as it stands in the document"`
	List     string       `json:"list,omitempty" doc:"List or crosswalk that was asked and does not have the value"`
	Nearest  string       `json:"nearest,omitempty" doc:"What that list or crosswalk has that is nearest to the value"`
	Message  string       `json:"message"`
	Hint     string       `json:"hint,omitempty" doc:"What to do about it"`
}

// New makes a finding with its code's usual severity and advice. A long value is shortened: a finding quotes a cell and
// does not carry its content.
func New(code Code, at origin.Place, value, format string, args ...any) Finding {
	about := Catalogue[code]
	return Finding{
		Code: code, Severity: about.Severity, Place: at, At: at.String(),
		Value: Clip(value, 120), Message: fmt.Sprintf(format, args...), Hint: about.Advice,
	}
}

func (f *Finding) Error() string {
	s := f.Message
	if f.At != "" {
		s = f.At + ": " + s
	}
	if f.Hint != "" {
		s += " (" + f.Hint + ")"
	}
	return s
}

// Fatal makes a finding that ends the reading of a document, as an error.
func Fatal(code Code, at origin.Place, format string, args ...any) *Finding {
	f := New(code, at, "", format, args...)
	return &f
}

// Weigh gives findings the severities that somebody has set for their codes; "" removes the finding.
func Weigh(all []Finding, as map[Code]Severity) []Finding {
	if len(as) == 0 {
		return all
	}
	kept := all[:0]
	for _, f := range all {
		severity, set := as[f.Code]
		if set && severity == "" {
			continue
		}
		if set {
			f.Severity = severity
		}
		kept = append(kept, f)
	}
	return kept
}

// Clip shortens s to at most n bytes, at the boundary of a character, and adds an ellipsis.
func Clip(s string, n int) string {
	if len(s) <= n {
		return s
	}
	for n > 0 && !utf8.RuneStart(s[n]) {
		n--
	}
	return s[:n] + "…"
}

// Capital returns s with a capital first letter, as at the beginning of a sentence.
func Capital(s string) string {
	r, n := utf8.DecodeRuneInString(s)
	if n == 0 || r == utf8.RuneError {
		return s
	}
	return string(unicode.ToUpper(r)) + s[n:]
}

// All is several findings as one error: everything that prevents the use of a document or a mapping, reported together.
type All []Finding

func (all All) Error() string {
	s := ""
	for i := range all {
		if i > 0 {
			s += "\n"
		}
		s += all[i].Error()
	}
	return s
}

// Of returns the findings that an error carries, or nil for an error of another kind.
func Of(err error) []Finding {
	var one *Finding
	var all All
	switch {
	case errors.As(err, &all):
		return all
	case errors.As(err, &one):
		return []Finding{*one}
	}
	return nil
}
