package system

import (
	"fmt"
	"net"
	"net/url"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/tree"
)

// System is another application, as a description has it.
type System struct {
	Name, About, Text string
	Address           string
	Folder            string // where its files are; "" is that it is reached by Address
	Headers           map[string]string
	Auth              Auth
	Limits            Limits
	Errors            *jsondoc.Path // what an answer of status 200 has when it is a refusal; may be nil
	ErrorWords        *jsondoc.Path // within that; may be nil
	Means             []Meaning
	AnyType           bool // its answers are JSON, whatever type they say
	Records           map[string]*Record
	Hooks             *Hooks // nil: it tells us nothing
}

// Secret says where a value is found that never stands in a description: in an
// environment variable or a file.
type Secret struct{ Env, File string }

// Auth is how the system knows who calls. Kind is "" (it does not ask), bearer, header,
// query, basic, client_credentials or signed.
type Auth struct {
	Kind     string
	Name     string // of the header or parameter; of basic the user
	Value    Secret // bearer, header, query, basic, signed
	Token    string // address of the token endpoint
	ID       Secret
	Secret   Secret
	Scope    string
	InHeader bool   // id and secret go in an Authorization header
	Prefix   string // header: in front of the key
}

// Limits are how gently the system is called.
type Limits struct {
	Rate    float64 // requests a second
	Burst   int
	AtOnce  int
	Timeout time.Duration
	Largest int64 // bytes of an answer

	Wait      *jsondoc.Path // where an answer says how long nothing may be asked; may be nil
	WaitUnit  time.Duration
	Left      *jsondoc.Path // where it says how many points are left; may be nil
	ASecond   float64       // how many come back in a second; 0 is that the answer says it
	ASecondAt *jsondoc.Path
	Keep      int // how many are to be left
}

// PointsLeft is how many points an answer says are left; ok is false where it does not say so.
func (l *Limits) PointsLeft(body []byte) (left float64, ok bool) {
	if l.Left == nil {
		return 0, false
	}
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return 0, false
	}
	left, err = strconv.ParseFloat(scalar(l.Left, root), 64)
	return left, err == nil
}

// Pause is how long an answer asks that nothing is asked.
func (l *Limits) Pause(body []byte) time.Duration {
	if l.Wait == nil && l.Left == nil {
		return 0
	}
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return 0
	}
	number := func(p *jsondoc.Path) (float64, bool) {
		v, err := strconv.ParseFloat(scalar(p, root), 64)
		return v, err == nil
	}
	var pause time.Duration
	if v, ok := number(l.Wait); ok && v > 0 {
		pause = time.Duration(v * float64(l.WaitUnit))
	}
	rate := l.ASecond
	if v, ok := number(l.ASecondAt); ok {
		rate = v
	}
	if left, ok := number(l.Left); ok && left < float64(l.Keep) && rate > 0 {
		pause = max(pause, time.Duration((float64(l.Keep)-left)/rate*float64(time.Second)))
	}
	return pause
}

// Record is one kind of record of a system.
type Record struct {
	Name, About string
	List
	Get        string            // path with {key}; "" is none
	GetQuery   string            // GraphQL that asks for one, with the variable key; "" is a plain path
	GetWhole   bool              // the list shows only a part of a record
	GetParams  map[string]string // parameters, with {key} in them
	Key        *jsondoc.Path
	Number     *jsondoc.Path // those below may be nil
	Version    *jsondoc.Path
	Stamp      *jsondoc.Path
	Lines      *jsondoc.Path
	LinesCount *jsondoc.Path
	Gone       *jsondoc.Path
	GoneIs     []string
	Mapping    string
	Rest       []Rest        // parts of a record that its list does not show
	Tells      *Tells        // it tells that another record changed; nil: it is one that is mapped
	Within     *jsondoc.Path // where the record stands in the answer about it alone
	Finds      map[string]*Find
	Refers     []Refer
	Write      *Write      // nil: it is not written
	Fields     *Describing // nil: the system does not tell
	Files      *Files      // nil: they are listed by an API
	Feed       *Record     // rows that name records that changed; nil: the list says what is new
	Of         *Record     // of a feed: the record that its rows name
}

// List is how many things are got at once, a page after the other.
type List struct {
	Path    string
	GraphQL string            // what is asked for there; "" is a plain path
	Posted  bool              // parameters go in a JSON body
	Query   map[string]string // parameters, or variables, of the first page
	Records *jsondoc.Path
	Paging  Paging
	Since   Since
	MayLack bool   // an answer without the list, or null for it, has none
	Size    string // the parameter that says how many a page has; "" is none
}

// Tells is of which other record a record tells that it changed, such as a payment of its order.
type Tells struct {
	Record string
	Key    *jsondoc.Path // of that record
}

// Of is the key of the other record; "" if there is none.
func (t *Tells) Of(n *tree.Node) string { return scalar(t.Key, n) }

// Since is how only what is new is asked for; a blank Parameter is not at all.
type Since struct {
	Parameter, Form string
	As              string // with {since} in it; "" is that alone
	Overlap         time.Duration
}

// Paging is how a list goes on. Kind is "" (the first page is all), link, next, cursor,
// page or offset.
type Paging struct {
	Kind      string
	Parameter string
	Relation  string        // link
	From      *jsondoc.Path // next, cursor
	Header    string        // cursor: of the answer, where it has it; "" is From
	More      *jsondoc.Path // cursor, page, offset; may be nil
	Count     *jsondoc.Path // page: of pages; offset: of records; may be nil
	First     int           // page
}

var namePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)

// Parse reads a description. The error is a finding.All with everything that is wrong,
// each at its line and column.
func Parse(src []byte) (*System, error) {
	root, bad := grammar.Read(src, "system", Version)
	if bad != nil {
		return nil, finding.All{*bad}
	}
	b := &builder{}
	words.Fit(root, "a system", &b.Mistakes)
	if err := b.Err(); err != nil {
		return nil, err
	}
	s := &System{Name: root.Str("name"), About: root.Str("about"), Text: string(src),
		Headers: texts(root.Get("headers")),
		Records: map[string]*Record{}}
	if !namePattern.MatchString(s.Name) {
		b.wrong(root.Get("name"), "name must be of small letters, digits and hyphens, at most 64.")
	}
	switch address, folder := root.Get("address"), root.Get("folder"); {
	case (address == nil) == (folder == nil):
		b.wrong(root.Get("name"), "say where the system is: address, for an API, or folder, for files.")
	case folder != nil:
		s.Folder = strings.TrimRight(folder.Text, "/")
	default:
		s.Address = b.address(address)
	}
	if n := root.Get("auth"); n != nil {
		s.Auth = b.auth(n)
	}
	s.Limits, s.AnyType = b.limits(root.Get("limits")), root.Str("answers") == "any"
	for _, e := range root.Get("records").Entries {
		if !namePattern.MatchString(strings.ReplaceAll(e.Key, "_", "-")) {
			b.Add(finding.MappingWrongValue, e.At, e.Key, "a record's name must be of small letters, digits, _ and -.")
		}
		r := b.record(e.Key, e.Node)
		s.Records[e.Key] = r
		out := r.Write != nil && r.Write.File != nil
		if out && s.Folder == "" {
			b.Add(finding.MappingWrongValue, e.At, e.Key, "%s is a file, but the system is no folder.", e.Key).Hint = ""
		}
		only := r.Write != nil && e.Node.Get("list") == nil && r.Files == nil // it is written only
		if s.Folder+s.Address != "" && !only && (r.Files != nil) != (s.Folder != "") {
			b.Add(finding.MappingWrongValue, e.At, e.Key, "%s is read by %s.", e.Key, map[bool]string{
				true:  "files, because the system is a folder",
				false: "list, because the system has an address"}[s.Folder != ""])
		}
	}
	b.refer(s, root.Get("records"))
	if h := root.Get("hooks"); h != nil && s.Folder != "" {
		b.Add(finding.MappingWrongValue, h.At, "hooks", "a folder sends no webhooks.").Hint = ""
	} else {
		s.Hooks = b.hooks(s, h)
	}
	b.errors(s, root.Get("errors"))
	if err := b.Err(); err != nil {
		return nil, err
	}
	return s, nil
}

// RecordNames are the kinds of record, by name.
func (s *System) RecordNames() []string {
	var names []string
	for name := range s.Records {
		names = append(names, name)
	}
	slices.Sort(names)
	return names
}

type builder struct{ grammar.Mistakes }

func (b *builder) wrong(n *grammar.Node, format string, args ...any) {
	b.Add(finding.MappingWrongValue, n.At, n.Text, format, args...).Hint = "" // the message says what to do
}

func texts(n *grammar.Node) map[string]string {
	all := map[string]string{}
	if n != nil {
		for _, e := range n.Entries {
			all[e.Key] = e.Node.Text
		}
	}
	return all
}

var envInAddress = regexp.MustCompile(`\{env: *([A-Za-z_][A-Za-z0-9_]*)\}`)

// address looks at where a system is. What comes from the environment is looked at when
// it is known.
func (b *builder) address(n *grammar.Node) string {
	if !envInAddress.MatchString(n.Text) {
		if err := CheckAddress(n.Text); err != nil {
			b.wrong(n, "%v", err)
		}
	}
	return strings.TrimRight(n.Text, "/")
}

// CheckAddress says what is wrong with an address that is to be called.
func CheckAddress(text string) error {
	u, err := url.Parse(text)
	switch {
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return fmt.Errorf("%q is no address such as https://shop.example/api", text)
	case u.User != nil:
		return fmt.Errorf("a name and password do not stand in the address: say auth: {basic: …}")
	case u.RawQuery != "" || u.Fragment != "":
		return fmt.Errorf("an address has no ? or #: parameters stand under query")
	case u.Scheme == "http" && !loopback(u.Hostname()):
		return fmt.Errorf("%q would send everything in the clear: say https (http is for this machine only)", text)
	}
	return nil
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// Resolve returns an address with what it takes from the environment.
func Resolve(address string, env func(string) (string, bool)) (string, error) {
	text, err := filled(address, "address", env)
	if err != nil {
		return "", err
	}
	return strings.TrimRight(text, "/"), CheckAddress(text)
}

// ResolveFolder returns a folder with what it takes from the environment.
func ResolveFolder(folder string, env func(string) (string, bool)) (string, error) {
	text, err := filled(folder, "folder", env)
	if err == nil && !filepath.IsAbs(text) {
		err = fmt.Errorf("%q is no whole path of a folder, such as /srv/yard", text)
	}
	return text, err
}

func filled(text, what string, env func(string) (string, bool)) (out string, err error) {
	out = envInAddress.ReplaceAllStringFunc(text, func(m string) string {
		name := envInAddress.FindStringSubmatch(m)[1]
		v, ok := env(name)
		if !ok && err == nil {
			err = fmt.Errorf("the environment variable %s, which the %s needs, is not set", name, what)
		}
		return v
	})
	return out, err
}

func secretOf(n *grammar.Node) Secret { return Secret{n.Str("env"), n.Str("file")} }

func (b *builder) auth(n *grammar.Node) Auth {
	kind, v := n.Entries[0].Key, n.Entries[0].Node
	a := Auth{Kind: kind}
	switch kind {
	case "bearer", "signed":
		a.Value = secretOf(v)
	case "header", "query":
		a.Name, a.Value, a.Prefix = v.Str("name"), secretOf(v.Get("value")), v.Str("prefix")
	case "basic":
		user, password, key := v.Get("user"), v.Get("password"), v.Get("key")
		switch {
		case key != nil && user == nil && password == nil:
			a.Kind, a.Value = "basic_key", secretOf(key)
		case key == nil && user != nil && password != nil:
			a.Name, a.Value = user.Text, secretOf(password)
		default:
			b.Add(finding.MappingWrongValue, v.At, "", "basic needs user and password, or key alone.").Hint = ""
		}
	case "client_credentials":
		a.Token, a.Scope, a.InHeader = v.Str("token"), v.Str("scope"), v.Str("in") != "body"
		a.ID, a.Secret = secretOf(v.Get("id")), secretOf(v.Get("secret"))
	}
	return a
}

func (b *builder) limits(n *grammar.Node) Limits {
	l := Limits{Rate: 10, Burst: 1, AtOnce: 4, Timeout: 30 * time.Second, Largest: 16 << 20}
	if n == nil {
		return l
	}
	if v := n.Get("rate"); v != nil {
		r, err := strconv.ParseFloat(v.Text, 64)
		if err != nil || r <= 0 || r > 100_000 {
			b.wrong(v, "rate is requests a second, such as 5 or 0.5.")
		}
		l.Rate = r
	}
	if v := n.Number("burst"); v > 0 {
		l.Burst = v
	}
	if v := n.Number("at_once"); v > 0 {
		l.AtOnce = v
	}
	l.Timeout = b.duration(n.Get("timeout"), l.Timeout)
	if v := n.Number("largest"); v > 0 {
		l.Largest = int64(v) << 20
	}
	if w := n.Get("wait"); w != nil {
		l.Wait, l.WaitUnit = b.path(w.Get("path")), time.Second
		if w.Str("unit") == "milliseconds" {
			l.WaitUnit = time.Millisecond
		}
	}
	if p := n.Get("budget"); p != nil {
		l.Left, l.Keep = b.path(p.Get("left")), p.Number("keep")
		rate := p.Get("a_second")
		if v, err := strconv.ParseFloat(rate.Text, 64); err == nil && v > 0 {
			l.ASecond = v
		} else {
			l.ASecondAt = b.path(rate)
		}
	}
	return l
}

func (b *builder) duration(n *grammar.Node, usual time.Duration) time.Duration {
	if n == nil {
		return usual
	}
	d, err := time.ParseDuration(n.Text)
	if err != nil || d <= 0 || d > 24*time.Hour {
		b.wrong(n, "%q is no time such as 30s, 5m or 2h.", n.Text)
	}
	return d
}

func (b *builder) path(n *grammar.Node) *jsondoc.Path {
	if n == nil {
		return nil
	}
	p, err := jsondoc.ParsePath(n.Text)
	if err != nil {
		b.wrong(n, "%q is no path: %v.", n.Text, err)
	}
	return p
}

func (b *builder) record(name string, n *grammar.Node) *Record {
	list := n.Get("list")
	if list == nil { // files have none
		list = &grammar.Node{At: n.At}
	}
	r := &Record{Name: name, About: n.Str("about"), List: b.list(list), Files: b.files(n.Get("files")),
		Key:     b.path(n.Get("key")),
		Number:  b.path(n.Get("number")),
		Version: b.path(n.Get("version")), Stamp: b.path(n.Get("stamp")), Lines: b.path(n.Get("lines")),
		LinesCount: b.path(n.Get("lines_count")), Mapping: n.Str("mapping")}
	if g := n.Get("get"); g != nil {
		r.Get, r.GetQuery, r.Within = g.Str("path"), g.Str("graphql"), b.path(g.Get("record"))
		r.GetWhole, r.GetParams = g.Str("whole") == "true", texts(g.Get("query"))
		b.below(g.Get("path"))
		if !strings.Contains(r.Get, "{key}") && !within(r.GetParams, "{key}") && r.GetQuery == "" {
			b.wrong(g.Get("path"),
				"the path of one record needs {key}, such as /orders/{key}, or a parameter under query does.")
		}
	}
	if g := n.Get("gone"); g != nil {
		r.Gone, r.GoneIs = b.path(g.Get("path")), g.Strs("is")
	}
	if (r.Lines == nil) != (r.LinesCount == nil) && r.LinesCount != nil {
		b.wrong(n.Get("lines_count"), "lines_count is compared with lines; say where they stand.")
	}
	b.since(r, list)
	b.feed(r, n.Get("feed"))
	if files := n.Get("files"); files != nil {
		for _, word := range []string{"list", "get", "rest", "find", "fields"} {
			if v := n.Get(word); v != nil {
				b.Add(finding.MappingWrongValue, v.At, word, "a record that comes as files has no %s.", word).Hint = ""
			}
		}
	}
	for _, t := range n.List("rest") {
		r.Rest = append(r.Rest, b.rest(r, t))
	}
	if t := n.Get("tells"); t != nil {
		r.Tells = &Tells{t.Str("record"), b.path(t.Get("key"))}
		if r.Files != nil {
			b.wrong(t.Get("record"), "a record that comes as files tells of no other one.")
		}
	}
	r.Finds, r.Refers = b.finds(n.Get("find")), b.refers(n)
	r.Write, r.Fields = b.write(r, n.Get("write")), b.fields(n.Get("fields"))
	return r
}

// since reads how a list of records is asked for what is new.
func (b *builder) since(r *Record, list *grammar.Node) {
	s := list.Get("since")
	if s == nil {
		return
	}
	r.Since = Since{s.Str("parameter"), s.Str("form"), s.Str("as"), b.duration(s.Get("overlap"), 0)}
	if r.Since.As != "" && !strings.Contains(r.Since.As, "{since}") {
		b.wrong(s.Get("as"), "as needs {since}, such as updated_at>{since}.")
	}
	if r.Stamp == nil {
		b.wrong(s.Get("parameter"), "since goes on from the newest stamp that was seen; say stamp: where a record has it.")
	}
}

// feed reads where a system says which records changed.
func (b *builder) feed(r *Record, n *grammar.Node) {
	if n == nil {
		return
	}
	f := &Record{Name: r.Name, List: b.list(n), Key: b.path(n.Get("key")), Stamp: b.path(n.Get("stamp")), GetWhole: true,
		Get: r.Get, Of: r, Mapping: r.Mapping}
	if g := n.Get("gone"); g != nil {
		f.Gone, f.GoneIs = b.path(g.Get("path")), g.Strs("is")
	}
	b.since(f, n)
	if r.Get == "" {
		b.wrong(n.Get("path"), "say get too: the rows of a feed only name records.")
	}
	r.Feed = f
}

// Whole is the record that rows of a feed name, or the record itself.
func (r *Record) Whole() *Record {
	if r.Of != nil {
		return r.Of
	}
	return r
}

func (b *builder) list(n *grammar.Node) List {
	l := List{Path: n.Str("path"), GraphQL: n.Str("graphql"), Posted: n.Str("method") == "POST",
		Query:   texts(n.Get("query")),
		Records: b.path(n.Get("records")), Size: n.Str("size"),
		MayLack: n.Str("may_lack") == "true"}
	if l.Path == "" {
		return l
	}
	b.below(n.Get("path"))
	if size := l.Query[l.Size]; l.Size != "" {
		if v, err := strconv.Atoi(size); err != nil || v < 1 {
			b.wrong(n.Get("size"), "say under query with how many it begins: %s: \"100\".", l.Size)
		}
	}
	if p := n.Get("paging"); p != nil {
		l.Paging = b.paging(p)
		if l.GraphQL != "" && (l.Paging.Kind == "link" || l.Paging.Kind == "next") {
			b.wrong(p, "a GraphQL list goes on by a variable: say cursor, page or offset.")
		}
		if l.Size != "" && l.Paging.Kind == "page" {
			b.wrong(n.Get("size"),
				"pages with numbers cannot become smaller on the way: the numbers would mean others.")
		}
	}
	return l
}

// within reports whether one of the values has a word in it.
func within(values map[string]string, word string) bool {
	for _, v := range values {
		if strings.Contains(v, word) {
			return true
		}
	}
	return false
}

// below looks at a path below the system's address.
func (b *builder) below(n *grammar.Node) {
	if strings.Contains(n.Text, "://") || strings.ContainsAny(n.Text, "?#") {
		b.wrong(n, "%q is no path below the address, such as /orders; parameters stand under query.", n.Text)
	}
}

func (b *builder) paging(n *grammar.Node) Paging {
	kind, v := n.Entries[0].Key, n.Entries[0].Node
	p := Paging{Kind: kind}
	switch kind {
	case "link":
		p.Relation = v.Text
	case "next":
		p.From = b.path(v)
	case "cursor":
		p.Parameter, p.From, p.More = v.Str("parameter"), b.path(v.Get("from")), b.path(v.Get("more"))
		if p.Header = v.Str("header"); (p.Header == "") == (p.From == nil) {
			b.Add(finding.MappingWrongValue, v.At, "",
				"a cursor needs from, where the answer has it, or header.").Hint = ""
		}
	case "page":
		p.Parameter, p.More, p.Count, p.First = v.Str("parameter"), b.path(v.Get("more")), b.path(v.Get("pages")), 1
		if v.Get("first") != nil {
			p.First = v.Number("first")
		}
	case "offset":
		p.Parameter, p.More, p.Count = v.Str("parameter"), b.path(v.Get("more")), b.path(v.Get("total"))
	}
	return p
}
