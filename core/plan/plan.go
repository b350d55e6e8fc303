package plan

import (
	"cmp"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"koinos/core/jsondoc"
	"koinos/core/order"
	"koinos/core/system"
	"koinos/core/tree"
)

// Found is a record as it was read.
type Found struct {
	Key, ETag string
	Root      *tree.Node
}

// Step is one call that is due.
type Step struct {
	Does   string // in words: "add 12 lines"
	Kind   Kind
	Method string
	Path   string // below the system's address; {key} in it is not known before the record is made
	Body   json.RawMessage
	Match  string // for If-Match; "" is none
	// Later says that the step is due only if the record, when it is read again, says so.
	Later    bool
	Changes  []Difference
	Record   *jsondoc.Path // where the record stands in the answer; nil is the answer itself
	Trial    string        // parameter with which the system only checks it; "" is none
	GraphQL  bool          // an answer with errors is none
	Warnings []string      // what the system said beside doing it
	Pending  bool          // {key} in the path, and "{key}" in the body, stand for a key that is not known yet
}

// Kind is what a step does to a record.
type Kind string

const (
	Create Kind = "create"
	Modify Kind = "change"
	Lines  Kind = "lines" // of its lines
	Act    Kind = "act"

	Introduce Kind = "introduce" // another record, that it refers to
)

// Difference is one value that becomes another. Line is what the line is matched by, or "" for the header.
type Difference struct {
	Line  string `json:"line,omitempty"`
	Field string `json:"field"`
	Was   string `json:"was"`
	Is    string `json:"is"`
}

// Blocked is why a record cannot become what it should be.
type Blocked struct {
	Line, Field string
	Why         string
}

func (b *Blocked) Error() string { return b.Why }

func blocked(line, field, format string, args ...any) error {
	return &Blocked{line, field, fmt.Sprintf(format, args...)}
}

// Planner works out the calls for records of one kind. It may be used by several goroutines.
type Planner struct {
	r      *system.Record
	w      *system.Write
	list   string            // pointer of the list of lines; "" is none
	aside  []string          // pointers that are not sent
	fixed  map[string]bool   // pointers that cannot be changed
	types  map[string]string // by pointer
	inLine map[string]string // by pointer within a line

	header, eachLine told // what the system says of its fields; nil is nothing
}

// planner is one plan that is being made.
type planner struct {
	*Planner
	steps []Step
}

// leaf is a value with its place.
type leaf struct {
	pointer string
	node    *tree.Node
}

// For works out the calls that make a record what is wanted. A nil found means that the record does not exist.
// cancelled says that the order is not wanted any more. The error is a *Blocked if no call can do it.
func (r *Planner) For(wanted *tree.Node, found *Found, cancelled bool) ([]Step, error) {
	p := &planner{Planner: r}
	if cancelled {
		if found != nil {
			p.acts(found, true)
		}
		return p.steps, nil
	}
	header, lines, err := p.wanted(wanted)
	if err != nil {
		return nil, err
	}
	if found == nil {
		p.create(header, lines)
	} else if err := p.change(header, lines, found); err != nil {
		return nil, err
	}
	p.acts(found, false)
	return p.steps, nil
}

// New makes the planner of a kind of record that is written, with what the system says about its fields.
func New(r *system.Record, fields ...system.TheirField) *Planner {
	p := &Planner{r: r, w: r.Write, fixed: map[string]bool{}, types: map[string]string{}, inLine: map[string]string{}}
	each := ""
	if r.Lines != nil {
		each = r.Lines.String()
		if list, err := jsondoc.ParsePath(strings.TrimSuffix(each, "[*]")); err == nil {
			p.list = list.Pointer()
		}
	}
	for _, a := range p.w.Aside {
		p.aside = append(p.aside, a.Pointer())
	}
	for _, f := range p.w.Fixed {
		p.fixed[f.Pointer()] = true
	}
	for path, kind := range p.w.Types {
		into := p.types
		if rest, ok := strings.CutPrefix(path, each+"."); ok && each != "" {
			path, into = "$."+rest, p.inLine
		}
		if parsed, err := jsondoc.ParsePath(path); err == nil {
			into[parsed.Pointer()] = kind
		}
	}
	for _, path := range p.w.Fold {
		into, text := p.types, path.String()
		if rest, ok := strings.CutPrefix(text, each+"."); ok && each != "" {
			into, text = p.inLine, "$."+rest
		}
		if parsed, err := jsondoc.ParsePath(text); err == nil {
			into[parsed.Pointer()] = folded
		}
	}
	p.know(fields)
	return p
}

// line is a line with what it is matched by.
type line struct {
	match  string
	node   *tree.Node
	leaves []leaf
}

// wanted splits what is wanted into the header's values and the lines.
func (p *Planner) wanted(root *tree.Node) (header []leaf, lines []line, err error) {
	header = p.leaves(root, "", make([]leaf, 0, root.Len()), true)
	list := root.Get(p.list)
	if p.list == "" || list == nil {
		return header, nil, nil
	}
	seen := make(map[string]bool, list.Len())
	lines = make([]line, 0, list.Len())
	for n := list.First(); n != nil; n = n.Next() {
		l := line{node: n, leaves: p.leaves(n, "", make([]leaf, 0, n.Len()), false)}
		if p.w.Lines != nil {
			if v := p.w.Lines.Match.First(n); v != nil && !blank(v) {
				l.match = v.Text
			}
			if l.match == "" || seen[l.match] {
				return nil, nil, blocked(l.match, p.w.Lines.Match.String(),
					"Line %d of the order cannot be told apart: its %s is %q.", n.Index+1, p.w.Lines.Match, l.match)
			}
			seen[l.match] = true
		}
		lines = append(lines, l)
	}
	return header, lines, nil
}

// leaves returns the values of a record or line, without its lines and without what is put aside.
func (p *Planner) leaves(n *tree.Node, pointer string, out []leaf, header bool) []leaf {
	for c := n.First(); c != nil; c = c.Next() {
		under := pointer + "/" + tree.Token(c.Name)
		if header && (under == p.list || p.putAside(under)) {
			continue
		}
		if c.Kind == tree.Object {
			out = p.leaves(c, under, out, header)
		} else {
			out = append(out, leaf{under, c})
		}
	}
	return out
}

func (p *Planner) putAside(pointer string) bool {
	for _, a := range p.aside {
		if pointer == a || strings.HasPrefix(pointer, a+"/") {
			return true
		}
	}
	return false
}

// body puts values into what is sent; blanks says whether blank ones are sent, as null.
func body(leaves []leaf, types map[string]string, blanks bool) *tree.Members {
	m := &tree.Members{}
	for _, l := range leaves {
		if blank(l.node) {
			if blanks {
				m.Put(l.pointer, nil)
			}
			continue
		}
		m.Put(l.pointer, typed(l.node, types[l.pointer]))
	}
	return m
}

func (p *Planner) bodies(lines []line) []any {
	all := make([]any, len(lines))
	for i := range lines {
		all[i] = body(lines[i].leaves, p.inLine, false)
	}
	return all
}

// step adds a call about a record, which is nil before it is created, or about one of its lines.
func (p *planner) step(kind Kind, r *system.Request, found *Found, line *tree.Node, v any, does string) *Step {
	p.steps = append(p.steps, p.call(kind, r, found, line, v, does))
	return &p.steps[len(p.steps)-1]
}

func (p *Planner) call(kind Kind, r *system.Request, found *Found, line *tree.Node, v any, does string) Step {
	s := Step{Does: does, Kind: kind, Method: r.Method, Path: r.Path, Record: r.Record, GraphQL: r.GraphQL != "",
		Trial: r.Trial, Pending: found == nil && kind != Create}
	name := map[string]*tree.Node{}
	for i, p := range sorted(r.Query) {
		s.Path += map[bool]string{true: "?", false: "&"}[i == 0] + url.QueryEscape(p) + "=" + open(r.Query[p])
	}
	if found != nil {
		if name["{key}"] = p.r.Key.First(found.Root); name["{key}"] == nil {
			name["{key}"] = &tree.Node{Kind: tree.String, Text: found.Key}
		}
		s.Path = Fill(s.Path, "{key}", found.Key)
		if found.Root != nil && line == nil {
			name["{version}"] = p.r.Version.First(found.Root)
		}
	}
	if line != nil {
		name["{line}"] = p.w.Lines.Key.First(line)
		name["{version}"] = p.w.Lines.Version.First(line)
		s.Path = Fill(s.Path, "{line}", text(name["{line}"]))
	}
	s.Body = Body(r, name, p.sent(r, name, v))
	return s
}

// Body is what is sent for a value, with what else goes along; name has the values for texts such as {key}. Nothing at
// all is nil.
func Body(r *system.Request, name map[string]*tree.Node, sent any) json.RawMessage {
	for _, c := range r.With {
		m, ok := sent.(*tree.Members)
		if !ok { // acts send nothing else
			m = &tree.Members{}
			sent = m
		}
		m.Put(c.Pointer, constant(c, name))
	}
	if r.GraphQL != "" {
		sent = map[string]any{"query": r.GraphQL, "variables": sent}
	}
	if sent == nil {
		return nil
	}
	raw, _ := json.Marshal(sent) // members of plain values
	return raw
}

// Together is what is sent to create several records in one call, made of the bodies that would create each of them
// alone.
func Together(w *system.Write, alone []json.RawMessage) (json.RawMessage, error) {
	records := make([]json.RawMessage, len(alone))
	for i, b := range alone {
		records[i] = b
		if w.Create.As == "" {
			continue
		}
		var members map[string]json.RawMessage
		if err := json.Unmarshal(b, &members); err != nil {
			return nil, err
		}
		records[i] = members[w.Create.As]
	}
	var sent any = records
	if w.Many.As != "" {
		m := &tree.Members{}
		m.Put("/"+tree.Token(w.Many.As), records)
		sent = m
	}
	return Body(&w.Many.Request, nil, sent), nil
}

// sent wraps a body in the form of a request; for a mutation of GraphQL it is the variables.
func (p *Planner) sent(r *system.Request, name map[string]*tree.Node, v any) any {
	if r.GraphQL == "" && (r.As == "" || v == nil) {
		return v
	}
	m := &tree.Members{}
	for _, known := range []string{"key", "line"} {
		if r.GraphQL != "" && strings.Contains(r.GraphQL, "$"+known) {
			m.Put("/"+known, constant(system.Constant{Text: "{" + known + "}"}, name))
		}
	}
	if v != nil {
		m.Put("/"+tree.Token(cmp.Or(r.As, "input")), v)
	}
	return m
}

// constant is a value that goes along. A value that is not known yet stays as it is written, and is filled in later.
func constant(c system.Constant, name map[string]*tree.Node) any {
	if n := name[c.Text]; n != nil {
		return json.RawMessage(n.AppendJSON(nil))
	}
	if _, err := order.ParseNumber(c.Text); c.Plain && (err == nil && json.Valid([]byte(c.Text)) || c.Text == "true" ||
		c.Text == "false") {
		return json.RawMessage(c.Text)
	}
	return c.Text
}

// matches names the version that was read, unless what is sent contains it already.
func (s *Step) matches(r *system.Request, version string) {
	if !slices.ContainsFunc(r.With, func(c system.Constant) bool { return c.Text == "{version}" }) {
		s.Match = version
	}
}

// Make is the call that creates a record from values, by their pointers.
func (p *Planner) Make(values map[string]*tree.Node) Step {
	var leaves []leaf
	for _, pointer := range sorted(values) {
		leaves = append(leaves, leaf{pointer, values[pointer]})
	}
	return p.call(Create, p.w.Create, nil, nil, body(leaves, p.types, false), "create it")
}

func (p *planner) create(header []leaf, lines []line) {
	with := len(lines)
	if p.w.Lines != nil && p.w.WithLines >= 0 {
		with = min(with, p.w.WithLines)
	}
	m := body(header, p.types, false)
	does := "create it"
	if with > 0 {
		m.Put(p.list, p.bodies(lines[:with]))
		does += " with " + count(with, "line")
	}
	p.step(Create, p.w.Create, nil, nil, m, does)
	p.add(lines[with:], nil)
}

// add adds lines, as many in a call as allowed.
func (p *planner) add(lines []line, found *Found) {
	for len(lines) > 0 {
		n := min(max(p.w.Lines.AtOnce, 1), len(lines))
		all := p.bodies(lines[:n])
		var v any = all
		if p.w.Lines.AtOnce == 0 {
			v = all[0]
		}
		s := p.step(Lines, p.w.Lines.Add, found, nil, v, "add "+count(n, "line"))
		if n == 1 {
			s.Does = "add line " + lines[0].match
		}
		lines = lines[n:]
	}
}

func (p *planner) change(header []leaf, lines []line, found *Found) error {
	var differ []leaf
	var changes []Difference
	for _, l := range header {
		is := found.Root.Get(l.pointer)
		if same(l.node, is, p.types[l.pointer]) {
			continue
		}
		field := strings.TrimPrefix(l.pointer, "/")
		if p.fixed[l.pointer] {
			return blocked("", field,
				"%s is %s there and should be %s, but it cannot be changed once the record is made.",
				field, shown(is), shown(l.node))
		}
		differ = append(differ, l)
		changes = append(changes, Difference{"", field, text(is), text(l.node)})
	}
	inline := p.w.Lines == nil && p.list != ""
	if inline {
		changes = append(changes, p.inlineChanges(lines, found.Root.Get(p.list))...)
	}
	if len(changes) > 0 {
		if p.w.Change == nil {
			return blocked("", changes[0].Field,
				"%s is %q there and should be %q, but the description says nothing of how "+
					"a record is changed.", changes[0].Field, changes[0].Was, changes[0].Is)
		}
		if p.w.Change.Method == "PUT" {
			differ = header
		}
		m := body(differ, p.types, p.w.Change.Method != "PUT")
		if inline {
			m.Put(p.list, p.bodies(lines))
		}
		s := p.step(Modify, p.w.Change, found, nil, m, "change "+fields(changes))
		s.Changes = changes
		if p.w.IfMatch {
			s.matches(p.w.Change, found.ETag)
		}
	}
	if p.w.Lines == nil {
		return nil
	}
	return p.lines(lines, found)
}

// inlineChanges are the differences of lines that go with their record, by their position.
func (p *planner) inlineChanges(lines []line, list *tree.Node) (out []Difference) {
	var there []*tree.Node
	if list != nil {
		for n := list.First(); n != nil; n = n.Next() {
			there = append(there, n)
		}
	}
	for i := range max(len(lines), len(there)) {
		name := strconv.Itoa(i + 1)
		switch {
		case i >= len(lines):
			out = append(out, Difference{name, "line", "there", ""})
		case i >= len(there):
			out = append(out, Difference{name, "line", "", "there"})
		default:
			for _, l := range lines[i].leaves {
				if is := there[i].Get(l.pointer); !same(l.node, is, p.inLine[l.pointer]) {
					out = append(out, Difference{name, strings.TrimPrefix(l.pointer, "/"), text(is), text(l.node)})
				}
			}
		}
	}
	return out
}

// lines removes, changes and adds lines one by one.
func (p *planner) lines(lines []line, found *Found) error {
	w := p.w.Lines
	at := make(map[string]int, len(lines))
	there := make([]*tree.Node, len(lines)) // for each line, the one that is there
	for i := range lines {
		at[lines[i].match] = i
	}
	var gone []*tree.Node
	if list := found.Root.Get(p.list); list != nil {
		for n := list.First(); n != nil; n = n.Next() {
			match := text(w.Match.First(n))
			if i, wanted := at[match]; wanted && there[i] == nil {
				there[i] = n
			} else {
				gone = append(gone, n)
			}
		}
	}
	version := func(n *tree.Node) string { return text(w.Version.First(n)) }
	for _, n := range gone {
		match := text(w.Match.First(n))
		if w.Remove == nil {
			return blocked(match, "",
				"Line %s is there and should not be, but the description says nothing of how a line is "+
					"removed.", match)
		}
		s := p.step(Lines, w.Remove, found, n, nil, "remove line "+match)
		s.matches(w.Remove, version(n))
	}
	var missing []line
	for i, l := range lines {
		is := there[i]
		if is == nil {
			missing = append(missing, l)
			continue
		}
		var differ []leaf
		var changes []Difference
		for _, v := range l.leaves {
			if was := is.Get(v.pointer); !same(v.node, was, p.inLine[v.pointer]) {
				differ = append(differ, v)
				changes = append(changes, Difference{l.match, strings.TrimPrefix(v.pointer, "/"), text(was),
					text(v.node)})
			}
		}
		if len(differ) == 0 {
			continue
		}
		if w.Change == nil {
			return blocked(l.match, changes[0].Field,
				"%s of line %s is %q there and should be %q, but the description says "+
					"nothing of how a line is changed.", changes[0].Field, l.match, changes[0].Was, changes[0].Is)
		}
		if w.Change.Method == "PUT" {
			differ = l.leaves
		}
		s := p.step(Lines, w.Change, found, is, body(differ, p.inLine, w.Change.Method != "PUT"),
			"change line "+l.match+": "+fields(changes))
		s.Changes = changes
		s.matches(w.Change, version(is))
	}
	if len(missing) > 0 && w.Add == nil {
		return blocked(missing[0].match, "",
			"Line %s is missing there, but the description says nothing of how a line is "+
				"added.", missing[0].match)
	}
	p.add(missing, found)
	return nil
}

// acts adds what else is due.
func (p *planner) acts(found *Found, cancelled bool) {
	for i := range p.w.Acts {
		a := &p.w.Acts[i]
		if a.Cancelled != cancelled {
			continue
		}
		if found == nil {
			s := p.step(Act, &a.Request, nil, nil, nil, fmt.Sprintf("%s it, if %s is %s then", a.Name, a.While.Path,
				strings.Join(a.While.Is, " or ")))
			s.Later = true
			continue
		}
		if a.While.Holds(found.Root) {
			p.step(Act, &a.Request, found, nil, nil, a.Name+" it")
		}
	}
}
