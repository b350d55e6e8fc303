package syncing

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/jsondoc"
	"koinos/core/list"
	"koinos/core/mapping"
	"koinos/core/order"
)

// Target is a kind of record of a system.
type Target struct{ System, Record string }

func (t Target) String() string { return t.System + "." + t.Record }

// Sync is one standing instruction.
type Sync struct {
	Name, About, Text string
	Pulls             []Pull
	Pushes            []Push
	Reconcile         time.Duration // how often everything is compared; 0 is only when asked
	Repair            bool          // what such a comparison finds is made right
	Asked             bool          // it works only when somebody runs it
	// Owners says whose value counts, by fields of orders, if both sides changed a record that is read and written:
	// OwnerHere, OwnerPerson or the name of a system.
	Owners map[string]string
}

// Owners of fields that are no systems.
const (
	OwnerHere   = "here"
	OwnerPerson = "person"
)

// Owner says whose value of a field counts, for the header or for a line.
func (s *Sync) Owner(line bool, field string) string {
	if line && field != "line" {
		field = "lines." + field
	} else if line {
		field = "lines"
	}
	for _, name := range []string{field, "all"} {
		if owner := s.Owners[name]; owner != "" {
			return owner
		}
	}
	return OwnerPerson
}

// Pull is a kind of record that is read.
type Pull struct {
	Target
	Mapping string        // "" is the one of the system's description
	Also    []string      // mappings through which the same records go besides
	Every   time.Duration // 0 is only when the sync is run
	Hooks   bool          // the system's webhooks tell of changes
	// Which records are loaded: Query are parameters of the list. Of what comes, these are only records with a value
	// among OnlyIs, or not among OnlyNot, and with Pass only those that are orders here.
	Query           map[string]string
	Only            *jsondoc.Path // nil: all
	OnlyIs, OnlyNot []string
	Pass            bool
}

// Push is a kind of record that orders are written as.
type Push struct {
	Target
	Name    string // unique in the sync
	Of      string // what of an order is written: OfShipment and the like; "" is the order
	Mapping string // "" is the one of the system's description
	Which   *mapping.OrderTest
	Unfit   string // UnfitLeave or UnfitCancel
	Lost    string // LostHold, LostCreate or LostCancel
	Creates bool   // records are made; else only those that are linked are changed
	After   *After // nil: it waits for nothing
}

// After is what a push waits for: until the order is linked with a record of a kind and, if Path is set, until a value
// of that record is one of some.
type After struct {
	Target
	Path *jsondoc.Path
	Is   []string
}

// Holds reports whether a record, as JSON, has come that far.
func (a *After) Holds(record string) bool {
	if a.Path == nil {
		return true
	}
	root, _, err := jsondoc.Parse([]byte(record), 1)
	if err != nil || root == nil {
		return false
	}
	n := a.Path.First(root)
	return n != nil && n.Scalar() && slices.Contains(a.Is, n.Text)
}

var namePattern = regexp.MustCompile(`^[a-z0-9][a-z0-9-]{0,63}$`)

type builder struct{ grammar.Mistakes }

func (b *builder) wrong(n *grammar.Node, format string, args ...any) {
	b.Add(finding.MappingWrongValue, n.At, n.Text, format, args...).Hint = "" // the message says what to do
}

// Parse reads a sync. The error is a finding.All with everything that is wrong, each at
// its line and column.
func Parse(src []byte) (*Sync, error) {
	root, bad := grammar.Read(src, "sync", Version)
	if bad != nil {
		return nil, finding.All{*bad}
	}
	b := &builder{}
	words.Fit(root, "a sync", &b.Mistakes)
	if err := b.Err(); err != nil {
		return nil, err
	}
	s := &Sync{Name: root.Str("name"), About: root.Str("about"), Text: string(src)}
	if !namePattern.MatchString(s.Name) {
		b.wrong(root.Get("name"), "name must be of small letters, digits and hyphens, at most 64.")
	}
	for _, n := range root.List("pull") {
		p := Pull{Target: b.target(n.Get("record")), Mapping: n.Str("mapping"), Also: n.Strs("also"),
			Every: b.often(n.Get("every")),
			Hooks: n.Str("hooks") == "true", Pass: n.Str("without_order") == "pass"}
		if q := n.Get("query"); q != nil {
			p.Query = map[string]string{}
			for _, e := range q.Entries {
				p.Query[e.Key] = e.Node.Text
			}
		}
		if only := n.Get("only"); only != nil {
			p.Only, p.OnlyIs, p.OnlyNot = b.path(only.Get("path")), only.Strs("is"), only.Strs("not")
			if (len(p.OnlyIs) == 0) == (len(p.OnlyNot) == 0) {
				b.wrong(only.Get("path"), "say either is, the values that are taken in, or not, those that are passed over.")
			}
		}
		if slices.ContainsFunc(s.Pulls, func(o Pull) bool { return o.Target == p.Target }) {
			b.wrong(n.Get("record"), "%s is read by an earlier pull of this sync.", p.Target)
		}
		s.Pulls = append(s.Pulls, p)
	}
	for _, n := range root.List("push") {
		s.Pushes = append(s.Pushes, b.push(s, n))
	}
	if r := root.Get("reconcile"); r != nil {
		s.Reconcile, s.Repair = b.often(r.Get("every")), r.Str("repair") == "true"
	}
	if len(s.Pulls)+len(s.Pushes) == 0 {
		b.wrong(root.Get("name"), "a sync needs something to do: pull, push or both.")
	}
	s.Owners = b.owners(s, root.Get("shared"))
	often := s.Reconcile > 0 || slices.ContainsFunc(s.Pulls, func(p Pull) bool {
		return p.Every > 0 || p.Hooks
	})
	switch runs := root.Get("runs"); {
	case runs == nil:
		s.Asked = !often
	case runs.Text == "asked" && often:
		b.wrong(runs, "something says every or hooks, so it cannot wait to be asked.")
	default:
		s.Asked = runs.Text == "asked"
	}
	b.waiting(s, root)
	if err := b.Err(); err != nil {
		return nil, err
	}
	return s, nil
}

func (b *builder) push(s *Sync, n *grammar.Node) Push {
	p := Push{Target: b.target(n.Get("record")), Name: n.Str("name"), Of: n.Str("of"), Mapping: n.Str("mapping"),
		Unfit: n.Str("unfit"),
		Lost:  n.Str("lost"), Creates: n.Str("creates") != "false", Which: mapping.ParseOrderTest(n.Get("which"),
			&b.Mistakes)}
	if p.Unfit == "" {
		p.Unfit = UnfitLeave
	}
	if p.Lost == "" {
		p.Lost = LostHold
	}
	if p.Name == "" {
		p.Name = p.Target.String()
	}
	if slices.ContainsFunc(s.Pushes, func(o Push) bool { return o.Name == p.Name }) {
		b.wrong(n.Get("record"), "there is a push %s already; give this one a name of its own.", p.Name)
	}
	if a := n.Get("after"); a != nil {
		p.After = &After{Target: b.target(a.Get("record")), Is: a.Strs("is")}
		path := a.Get("path")
		if (path == nil) != (len(p.After.Is) == 0) {
			b.wrong(a.Get("record"), "say both path and is, or neither: then it waits until the record is there.")
		}
		if path != nil {
			p.After.Path = b.path(path)
		}
	}
	return p
}

func (b *builder) path(n *grammar.Node) *jsondoc.Path {
	parsed, err := jsondoc.ParsePath(n.Text)
	if err != nil {
		b.wrong(n, "this is no path: %v.", err)
	}
	return parsed
}

// owners reads whose value of each field counts.
func (b *builder) owners(s *Sync, n *grammar.Node) map[string]string {
	all := map[string]string{}
	if n == nil {
		return all
	}
	known := append(s.Systems(), OwnerHere, OwnerPerson)
	for _, e := range n.Entries {
		level, name := order.Header, e.Key
		if rest, ofLine := strings.CutPrefix(name, "lines."); ofLine {
			level, name = order.Lines, rest
		}
		if _, ok := order.Lookup(level, name); !ok && e.Key != "all" && e.Key != "lines" {
			f := b.Add(finding.MappingUnknownKey, e.At, e.Key, "%q is not a field of orders.", e.Key)
			if near, ok := list.Nearest(name, order.FieldNames(level)); ok {
				f.Hint = fmt.Sprintf("Did you mean %q?", near)
			}
		}
		owner := e.Node.Get("owner")
		if !slices.Contains(known, owner.Text) {
			b.wrong(owner, "the owner is one of %s.", strings.Join(known, ", "))
		}
		all[e.Key] = owner.Text
	}
	return all
}

// waiting checks whether what pushes wait for can ever happen.
func (b *builder) waiting(s *Sync, root *grammar.Node) {
	for i, n := range root.List("push") {
		a := s.Pushes[i].After
		if a == nil {
			continue
		}
		at := n.Get("after").Get("record")
		if a.Target == s.Pushes[i].Target {
			b.wrong(at, "it cannot wait for its own record.")
			continue
		}
		// Follow what it waits for: in the end, nothing may wait for itself.
		seen := []Target{s.Pushes[i].Target}
		for next := a; next != nil; {
			if slices.Contains(seen, next.Target) {
				b.wrong(at, "the pushes wait for each other: %s.", chain(append(seen, next.Target)))
				break
			}
			seen = append(seen, next.Target)
			var further *After
			for k := range s.Pushes {
				if s.Pushes[k].Target == next.Target {
					further = s.Pushes[k].After
				}
			}
			next = further
		}
	}
}

func chain(all []Target) string {
	names := make([]string, len(all))
	for i, t := range all {
		names[i] = t.String()
	}
	return strings.Join(names, " for ")
}

func (b *builder) target(n *grammar.Node) Target {
	system, record, ok := strings.Cut(n.Text, ".")
	if !ok || system == "" || record == "" {
		b.wrong(n, "say the system and the kind of record, such as slipway.order.")
	}
	return Target{system, record}
}

// least is the shortest interval that is allowed.
const least = time.Second

func (b *builder) often(n *grammar.Node) time.Duration {
	if n == nil {
		return 0
	}
	d, err := time.ParseDuration(n.Text)
	if err != nil || d < least {
		b.wrong(n, "every must be a time of at least a second, such as 30s, 5m or 24h.")
	}
	return d
}

// Push returns the push with a name, or nil.
func (s *Sync) Push(name string) *Push {
	for i := range s.Pushes {
		if s.Pushes[i].Name == name {
			return &s.Pushes[i]
		}
	}
	return nil
}

// Names are the names by which single parts of the sync can be chosen.
func (s *Sync) Names() (names []string) {
	for _, p := range s.Pulls {
		names = append(names, p.Target.String())
	}
	for _, p := range s.Pushes {
		if !slices.Contains(names, p.Name) { // what is read and written has one name
			names = append(names, p.Name)
		}
	}
	return names
}

// Systems are those that the sync reads or writes, by name.
func (s *Sync) Systems() (names []string) {
	for _, p := range s.Pulls {
		names = append(names, p.System)
	}
	for _, p := range s.Pushes {
		names = append(names, p.System)
	}
	slices.Sort(names)
	return slices.Compact(names)
}
