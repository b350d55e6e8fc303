package draft

import (
	"encoding/json"
	"errors"
	"fmt"
	"koinos/core/grammar"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"github.com/getkin/kin-openapi/openapi2"
	"github.com/getkin/kin-openapi/openapi2conv"
	"github.com/getkin/kin-openapi/openapi3"
	"github.com/goccy/go-yaml"
)

// mostRecords is how many kinds of record a draft has, unless somebody names them.
const mostRecords = 8

// api is an API's document with what is found in it.
type api struct {
	doc   *openapi3.T
	graph *graph // nil: it is no GraphQL
	name  string
	lists []*list
}

// list is one address that lists records, with what else is about them.
type list struct {
	record  string // kind of record
	path    string
	op      *openapi3.Operation
	query   []prop // parameters
	graph   *graphList
	answer  *schema
	headers openapi3.Headers
	at      string // path of the list of records in the answer; by GraphQL, of the records
	whole   int    // how many lists of objects the answer has
	each    *schema
	one     string // path of one record, with {key}; "" is none
	param   string // as the document names it
	get     *openapi3.Operation
	within  string // path of the record in that answer; "" is the answer
	full    *schema
}

// ErrNoLists says that a document describes no list of records.
var ErrNoLists = errors.New("the document describes no address that lists records in JSON")

// FromOpenAPI drafts a description from an OpenAPI document, of version 2 or 3, in JSON or
// YAML. Only names the kinds of record to take; none are those that have to do with orders.
func FromOpenAPI(src []byte, only []string) (*Draft, error) {
	if line := grammar.TooDeep(src); line > 0 {
		return nil, fmt.Errorf("the document is nested more than %d levels deep, in line %d", grammar.MostLevels, line)
	}
	doc, err := read(src)
	if err != nil {
		return nil, fmt.Errorf("the document is not readable as OpenAPI: %w", err)
	}
	if doc.OpenAPI == "" || doc.Paths == nil {
		return nil, errors.New("the document is not OpenAPI: it has no openapi: or swagger:, or no paths")
	}
	a := &api{doc: doc, name: "system"}
	if doc.Info != nil && norm(doc.Info.Title) != "" {
		a.name = title(doc.Info.Title)
	}
	a.find()
	if len(a.lists) == 0 {
		return nil, ErrNoLists
	}
	kept, left, err := a.choose(only)
	if err != nil {
		return nil, err
	}
	root := &entry{}
	root.add("koinos", "system/1", "")
	root.add("name", a.name, "")
	if doc.Info != nil {
		root.add("about", quoted(firstSentence(doc.Info.Description, doc.Info.Title)), "")
	}
	a.address(root)
	a.auth(root)
	root.ask("limits: how often and how many at once may the API be asked? By default 10 times a second, 4 at once.")
	records := root.add("records", "", "")
	for _, l := range kept {
		a.record(records, l, kept)
	}
	return finish(a.name, root, left)
}

// read reads a document of version 3, or makes one of version 2 (Swagger) that.
func read(src []byte) (doc *openapi3.T, err error) {
	if doc, err = openapi3.NewLoader().LoadFromData(src); err != nil || doc.OpenAPI != "" {
		return doc, err
	}
	inJSON, err := yaml.YAMLToJSON(src)
	if err != nil {
		return nil, err
	}
	var old openapi2.T
	if err := json.Unmarshal(inJSON, &old); err != nil || old.Swagger == "" {
		return doc, err
	}
	return openapi2conv.ToV3(&old)
}

// title makes a system's name of an API's.
func title(text string) string {
	all := slices.DeleteFunc(words(text), func(w string) bool {
		return slices.Contains([]string{"api", "rest", "the", "openapi", "service", ""}, w) || !asciiWord.MatchString(w)
	})
	if len(all) == 0 {
		return "system"
	}
	return strings.Join(all[:min(3, len(all))], "-")
}

var asciiWord = regexp.MustCompile(`^[a-z0-9]+$`)

func firstSentence(texts ...string) string {
	for _, t := range texts {
		line, _, _ := strings.Cut(strings.TrimSpace(t), "\n")
		if i := strings.Index(line, ". "); i > 0 {
			line = line[:i]
		}
		if line = strings.TrimSuffix(strings.TrimSpace(line), "."); line != "" {
			return line
		}
	}
	return "Not described"
}

// variable is the name of an environment variable of the system.
func (a *api) variable(what string) string {
	return strings.ToUpper(strings.ReplaceAll(a.name, "-", "_")) + "_" + what
}

func (a *api) address(root *entry) {
	env := "{env: " + a.variable("URL") + "}"
	if len(a.doc.Servers) == 0 {
		root.add("address", quoted(env), "where is the API? The document does not say").open = true
		return
	}
	s := a.doc.Servers[0]
	at := s.URL
	for name, v := range s.Variables {
		at = strings.ReplaceAll(at, "{"+name+"}", v.Default)
	}
	u, err := url.Parse(at)
	switch {
	case err != nil || strings.Contains(at, "{"):
		root.add("address", quoted(env), "where is the API? The document says "+s.URL).open = true
	case u.Host == "":
		root.add("address", quoted(env+strings.TrimRight(at, "/")),
			"on which host? The document says "+s.URL).open = true
	case u.Scheme != "https":
		root.add("address", quoted(env+strings.TrimRight(u.Path, "/")),
			"the document says "+at+", which is not https").open = true
	case len(s.Variables) > 0:
		root.add("address", quoted(strings.TrimRight(at, "/")), "is this ours? The document says "+s.URL).open = true
	case len(a.doc.Servers) > 1:
		root.add("address", quoted(strings.TrimRight(at, "/")), "the first of those in the document")
	default:
		root.add("address", quoted(strings.TrimRight(at, "/")), "")
	}
}

// auth says how to sign in, by the first way of the document that Koinos knows.
func (a *api) auth(root *entry) {
	asked := a.doc.Security
	if len(asked) == 0 { // often said of each operation
		for _, l := range a.lists {
			if l.op.Security != nil && len(*l.op.Security) > 0 {
				asked = *l.op.Security
				break
			}
		}
	}
	var others []string
	done := false
	for _, need := range asked {
		for name, scopes := range need {
			var s *openapi3.SecurityScheme
			if a.doc.Components != nil && a.doc.Components.SecuritySchemes[name] != nil {
				s = a.doc.Components.SecuritySchemes[name].Value
			}
			if s == nil || done || !a.scheme(root, name, s, scopes) {
				others = append(others, name)
				continue
			}
			done = true
		}
	}
	switch {
	case !done && len(asked) == 0:
		root.ask("auth: how does one sign in? The document does not say.")
	case !done:
		root.ask("auth: how does one sign in? The document names %s, which Koinos does not know.",
			strings.Join(others, ", "))
	case len(others) > 0:
		root.add("", "", "The document also names "+strings.Join(others, ", ")+" for signing in.")
	}
}

func (a *api) scheme(root *entry, name string, s *openapi3.SecurityScheme, scopes []string) bool {
	env := func(what string) string { return "{env: " + a.variable(what) + "}" }
	why := "security scheme " + name
	switch {
	case s.Type == "http" && strings.EqualFold(s.Scheme, "bearer"):
		root.add("auth", "{bearer: "+env("TOKEN")+"}", why)
	case s.Type == "http" && strings.EqualFold(s.Scheme, "basic"):
		root.add("auth", fmt.Sprintf("{basic: {user: koinos, password: %s}}", env("PASSWORD")),
			why+"; with which user?").open = true
	case s.Type == "apiKey" && (s.In == "header" || s.In == "query"):
		root.add("auth", fmt.Sprintf("{%s: {name: %s, value: %s}}", s.In, quoted(s.Name), env("KEY")), why)
	case s.Type == "oauth2" && s.Flows != nil && s.Flows.ClientCredentials != nil:
		f := s.Flows.ClientCredentials
		c := root.add("auth", "", why).add("client_credentials", "", "")
		token := c.add("token", quoted(f.TokenURL), "")
		if strings.HasPrefix(f.TokenURL, "/") {
			token.why, token.open = "is it below the address? The document says "+f.TokenURL, true
		}
		c.add("id", env("ID"), "")
		c.add("secret", env("SECRET"), "")
		if len(scopes) > 0 {
			c.add("scope", quoted(strings.Join(scopes, " ")), "")
		}
	default:
		return false
	}
	return true
}

// find finds the addresses that list records.
func (a *api) find() {
	for _, path := range sortedPaths(a.doc) {
		item := a.doc.Paths.Value(path)
		if item.Get == nil || strings.Contains(path, "{") {
			continue
		}
		l := &list{path: path, op: merged(item.Get, item)}
		l.query = params(l.op, "query")
		if l.answer, l.headers = answerOf(item.Get); l.answer == nil || !l.records() {
			continue
		}
		segments := strings.Split(strings.Trim(path, "/"), "/")
		l.record = singular(segments[len(segments)-1])
		for i := len(segments) - 2; i >= 0 && a.named(l.record) != nil; i-- { // two lists of one name
			l.record = singular(segments[i]) + "_" + l.record
		}
		if l.record == "" || a.named(l.record) != nil {
			continue
		}
		a.alone(l)
		a.lists = append(a.lists, l)
	}
}

func (a *api) named(record string) *list {
	for _, l := range a.lists {
		if l.record == record {
			return l
		}
	}
	return nil
}

var oneOf = regexp.MustCompile(`^/\{([^}]+)\}$|^\('?\{([^}]+)\}'?\)$`)

// alone finds how one record of a list is got.
func (a *api) alone(l *list) {
	for _, path := range sortedPaths(a.doc) {
		m := oneOf.FindStringSubmatch(strings.TrimPrefix(path, l.path))
		item := a.doc.Paths.Value(path)
		if m == nil || !strings.HasPrefix(path, l.path) {
			continue
		}
		l.param = m[1] + m[2]
		l.one = strings.Replace(path, "{"+l.param+"}", "{key}", 1)
		if item.Get == nil {
			return
		}
		l.get = merged(item.Get, item)
		if s, _ := answerOf(item.Get); s != nil {
			l.within, l.full = l.wrapped(s)
		}
		return
	}
}

// wrapped finds the record in the answer about it alone: the answer itself, or its only
// member that has what a record of the list has.
func (l *list) wrapped(s *schema) (string, *schema) {
	key, _ := l.key()
	if s.member(key.name) != nil {
		return "", s
	}
	for _, p := range s.props() {
		if p.schema.member(key.name) != nil {
			return step("$", p.name), p.schema
		}
	}
	return "", s
}

// choose returns the lists that the draft has, and the names of the others.
func (a *api) choose(only []string) (kept []*list, left []string, err error) {
	for _, name := range only {
		l := a.named(name)
		if l == nil {
			var all []string
			for _, l := range a.lists {
				all = append(all, l.record)
			}
			return nil, nil, fmt.Errorf("the document has no list of %q; it has %s", name, strings.Join(all, ", "))
		}
		kept = append(kept, l)
	}
	if len(only) == 0 {
		for _, l := range a.lists {
			if has(l.record, orderWords...) && len(kept) < mostRecords {
				kept = append(kept, l)
			}
		}
		if len(kept) == 0 {
			kept = slices.Clone(a.lists[:min(mostRecords, len(a.lists))])
		}
	}
	for _, l := range slices.Clone(kept) { // and what they refer to
		for _, r := range a.refers(l) {
			if !slices.Contains(kept, r.to) && len(kept) < mostRecords+4 {
				kept = append(kept, r.to)
			}
		}
	}
	for _, l := range a.lists {
		if !slices.Contains(kept, l) {
			left = append(left, l.record)
		}
	}
	return kept, left, nil
}
