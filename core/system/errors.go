package system

import (
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/tree"
)

// Meaning is the meaning of an answer that has a status, or a value at a path, or both.
type Meaning struct {
	Status []string
	While  While
	Means  string // later, changed, missing, never, smaller
}

// failing are the words about answers which say that something was not done.
var failing = grammar.Group("What answers mean that say that something was not done",
	grammar.May("path", grammar.Some("What an answer of status 200 has if nothing was done, and not otherwise: "+path)),
	grammar.May("message", grammar.Some("The system's words: path within that")),
	grammar.May("means", &grammar.Shape{Kind: grammar.ListOf,
		About: "Answers that mean something else than their status says; the first that fits counts",
		Items: grammar.Group("One kind of answer",
			grammar.May("status", grammar.Many("The statuses that it can have, such as 409; by default any from 400")),
			grammar.May("path", grammar.Some("What says so besides: "+path)),
			grammar.May("is", grammar.Many("The values there that say so")),
			grammar.Must("means",
				grammar.OneOf("later: it was not done and may pass by itself. changed: the record is "+
					"another one than was read. missing: there is no such thing. never: it will not pass by itself. smaller: "+
					"the same with smaller pages", "later", "changed", "missing", "never", "smaller")))}))

func (b *builder) errors(s *System, n *grammar.Node) {
	if n == nil {
		return
	}
	s.Errors, s.ErrorWords = b.path(n.Get("path")), b.path(n.Get("message"))
	if s.ErrorWords != nil && s.Errors == nil {
		b.wrong(n.Get("message"), "message is a path within path; say that too.")
	}
	for _, item := range n.List("means") {
		m := Meaning{Status: item.Strs("status"), Means: item.Str("means"),
			While: While{Path: b.path(item.Get("path")), Is: item.Strs("is")}}
		for _, status := range item.List("status") {
			if v, err := strconv.Atoi(status.Text); err != nil || v < 200 || v > 599 {
				b.wrong(status, "%q is no status such as 409.", status.Text)
			}
		}
		switch {
		case (m.While.Path == nil) != (len(m.While.Is) == 0):
			b.wrong(item.Get("means"), "path and is go together: what has a value, and which.")
		case m.While.Path == nil && len(m.Status) == 0:
			b.wrong(item.Get("means"), "say which answers mean this: status, or path and is.")
		}
		s.Means = append(s.Means, m)
	}
}

// Meaning is the meaning that the description gives an answer; "" if it returns none.
func (s *System) Meaning(status int, body []byte) string {
	if len(s.Means) == 0 {
		return ""
	}
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil {
		root = nil
	}
	for _, m := range s.Means {
		switch {
		case len(m.Status) > 0 && !slices.Contains(m.Status, strconv.Itoa(status)),
			len(m.Status) == 0 && status < 400 && status != 200,
			m.While.Path != nil && (root == nil || !m.While.Holds(root)):
		default:
			return m.Means
		}
	}
	return ""
}

// Partial says what is wrong with an answer of GraphQL that has errors: what it lacks is unknown, not empty. whole says
// that it has no data at all.
func Partial(body []byte) (words string, whole, is bool) {
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil || root.Member("errors") == nil || root.Member("errors").Len() == 0 {
		return "", false, false
	}
	words = "it does not say why"
	first := root.Member("errors").First()
	if m := first.Member("message"); m != nil && m.Text != "" {
		words = m.Text
	}
	if at := first.Member("path"); at != nil && at.Len() > 0 {
		words += " (at " + string(at.AppendJSON(nil)) + ")"
	}
	data := root.Member("data")
	return words, data == nil || data.Kind == tree.Null, true
}

// Refused reports whether an answer of status 200 says that nothing was done, with the system's words.
func (s *System) Refused(body []byte) (words string, is bool) {
	if s.Errors == nil {
		return "", false
	}
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return "", false
	}
	n := s.Errors.First(root)
	if n == nil || n.Kind == tree.Null || !n.Scalar() && n.Len() == 0 || n.Kind == tree.Bool && n.Text == "false" {
		return "", false
	}
	if s.ErrorWords != nil {
		words = scalar(s.ErrorWords, n)
	}
	if words == "" {
		words = strings.Join(said(n, nil), "; ")
	}
	if words == "" {
		words = scalar(s.Errors, root)
	}
	if words == "" {
		words = "it does not say why"
	}
	return words, true
}

// saying are the members in which systems say what is wrong, as RFC 9457 and others name them; of two in one object,
// the first counts.
var saying = []string{"detail", "message", "error_description", "description", "reason", "msg", "text", "title"}

// holding are the members that hold what says it.
var holding = []string{"error", "errors", "violations", "problems", "details", "fault", "invalid_params",
	"invalid-params"}

// placing are the members that say which value is meant.
var placing = []string{"field", "pointer", "path", "property", "parameter", "name", "source"}

// mostWords is how much of a system's words is shown, in letters.
const mostWords = 400

// Words is what a system says in an answer about an error; "" if it says nothing.
func Words(body []byte) string {
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return ""
	}
	text := strings.Join(strings.Fields(strings.Join(said(root, nil), "; ")), " ")
	if utf8.RuneCountInString(text) > mostWords {
		text = string([]rune(text)[:mostWords]) + " …"
	}
	return text
}

// said collects what an object says, and what it contains.
func said(n *tree.Node, all []string) []string {
	switch {
	case n.Kind == tree.String:
		return add(all, n.Text)
	case n.Kind == tree.Array:
		for c := n.First(); c != nil && len(all) < 10; c = c.Next() {
			all = said(c, all)
		}
	case n.Kind == tree.Object:
		words := member(n, saying)
		if at := member(n, placing); at != "" && words != "" {
			words = at + ": " + words
		}
		all = add(all, words)
		for _, name := range holding {
			if c := n.Member(name); c != nil {
				all = held(c, all)
			}
		}
	}
	return all
}

// held collects what stands below a member that contains errors: values, or objects, or lists of them by the names of
// what is wrong.
func held(n *tree.Node, all []string) []string {
	if n.Kind != tree.Object || member(n, saying) != "" {
		return said(n, all)
	}
	for c := n.First(); c != nil && len(all) < 10; c = c.Next() {
		if words := said(c, nil); len(words) > 0 {
			if !slices.Contains(holding, c.Name) && !slices.Contains([]string{"code", "type", "status"}, c.Name) {
				words[0] = c.Name + ": " + words[0]
			}
			all = append(all, words...)
		}
	}
	return all
}

func add(all []string, text string) []string {
	if text = strings.TrimSpace(text); text != "" && !slices.Contains(all, text) {
		all = append(all, text)
	}
	return all
}

// member is the first of some members that is a text, or the text that one of them contains.
func member(n *tree.Node, names []string) string {
	for _, name := range names {
		switch c := n.Member(name); {
		case c == nil:
		case c.Kind == tree.String && c.Text != "":
			return c.Text
		case c.Kind == tree.Object:
			if text := member(c, names); text != "" {
				return text
			}
		}
	}
	return ""
}
