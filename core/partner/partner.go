package partner

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"koinos/core/finding"
	"koinos/core/grammar"
	"koinos/core/mapping"
	"koinos/core/order"
	"koinos/core/origin"
	"koinos/core/source"
	"koinos/core/x12"
)

// Version is the first line of every partner.
const Version = "partner/1"

// Kinds of partner.
const (
	Customer = "customer" // orders from us
	Supplier = "supplier" // takes our orders
)

// What becomes of changes that a partner requests.
const (
	ChangesWait  = "wait" // for a person
	ChangesTaken = "take"
)

// Partner is a trading partner. Parse fills in what a document leaves out.
type Partner struct {
	Koinos string `yaml:"koinos" json:"-"`
	Name   string `yaml:"name" json:"name" doc:"Our code of the customer or supplier"`
	About  string `yaml:"about" json:"about,omitempty"`
	Kind   string `yaml:"kind" json:"kind" enum:"customer,supplier"`
	Them   ID     `yaml:"them" json:"them"`
	Us     ID     `yaml:"us" json:"us"`

	Version    string `yaml:"version" json:"version" doc:"Version, release and industry code of what we write, e.g. 004010"`
	Changes    string `yaml:"changes" json:"changes" enum:"wait,take" doc:"What becomes of changes and cancellations of stored orders that they ask for: they wait for a person (the default), or are taken"`
	Usage      string `yaml:"usage" json:"usage" enum:"I,P,T" doc:"ISA15: production, test, information"`
	Delimiters struct {
		Element    string `yaml:"element" json:"element"`
		Component  string `yaml:"component" json:"component"`
		Repetition string `yaml:"repetition" json:"repetition,omitempty"`
		Segment    string `yaml:"segment" json:"segment"`
	} `yaml:"delimiters" json:"delimiters"`
	LineEnds   bool `yaml:"line_ends" json:"line_ends,omitempty" doc:"A line end behind each segment"`
	Characters struct {
		Set        string `yaml:"set" json:"set" enum:"basic,extended,latin-1,utf-8"`
		Others     string `yaml:"others" json:"others" enum:"replace,refuse" doc:"What becomes of other characters"`
		Delimiters string `yaml:"delimiters" json:"delimiters" enum:"replace,refuse" doc:"What becomes of a delimiter within a value"`
		Long       string `yaml:"long" json:"long" enum:"refuse,cut" doc:"What becomes of a text that is too long"`
	} `yaml:"characters" json:"characters"`
	Acknowledge struct {
		With   string   `yaml:"with" json:"with" enum:"997,999,none" doc:"What we acknowledge functional groups with"`
		TA1    string   `yaml:"ta1" json:"ta1" enum:"needed,asked,always,never" doc:"When we answer an interchange with a TA1: where it asks for one or its envelope is wrong (the default; with none: never), only where it asks, always, never"`
		Reject []string `yaml:"reject" json:"reject,omitempty" doc:"Faults of the envelope, as TA105 names them, that reject an interchange whole; others are noted"`
		Whole  string   `yaml:"whole" json:"whole" enum:"set,group,interchange" doc:"What is rejected where a transaction set is: it alone (the default), its group, all of the interchange"`
		Groups string   `yaml:"groups" json:"groups" enum:"any,once" doc:"once rejects a functional group whose control number came in another interchange before"`
		Within string   `yaml:"within" json:"within,omitempty" doc:"Agreed time in which they acknowledge what we send, e.g. 24h"`
		Ask    bool     `yaml:"ask" json:"ask,omitempty" doc:"We ask for a TA1 (ISA14)"`
	} `yaml:"acknowledge" json:"acknowledge"`
	Hash  bool                  `yaml:"hash" json:"hash,omitempty" doc:"We write the hash total of quantities (CTT02)"`
	Sets  map[string]Set        `yaml:"sets" json:"sets" doc:"Transaction sets that are exchanged"`
	Rules map[string][]x12.Rule `yaml:"rules" json:"rules,omitempty" doc:"By transaction set; they hold in both directions"`

	Text   string        `yaml:"-" json:"-"`
	within time.Duration // 0 is no agreement
	style  x12.Style
}

// ID is how one side is identified in interchanges (ISA05 to ISA08) and groups (GS02, GS03).
type ID struct {
	Qualifier string `yaml:"qualifier" json:"qualifier"`
	ID        string `yaml:"id" json:"id"`
	Group     string `yaml:"group" json:"group"`
}

// Set is how one transaction set is exchanged.
type Set struct {
	Mapping string `yaml:"mapping" json:"mapping" doc:"By default one of the partner's own on top of the standard one: pellow-850"`
	Send    string `yaml:"send" json:"send,omitempty" enum:"asked,due" doc:"Ours: when somebody asks (the default), or as soon as there is something to say"`
	Unasked *bool  `yaml:"unasked" json:"unasked,omitempty" doc:"865: false says only what the partner has asked for; by default what we change by ourselves is told, too"`
}

// TellsUnasked reports whether the partner is told by an 865 what we change by ourselves.
func (p *Partner) TellsUnasked() bool {
	s, exchanged := p.Sets["865"]
	return exchanged && (s.Unasked == nil || *s.Unasked)
}

// inward are the sets that come in from a customer and go out to a supplier.
var inward = []string{"850", "860"}

// Outgoing reports whether a set goes from us to the partner.
func (p *Partner) Outgoing(set string) bool {
	return slices.Contains(inward, set) == (p.Kind == Supplier)
}

// Policy is how what comes from the partner is judged and answered.
func (p *Partner) Policy() x12.Policy {
	a := &p.Acknowledge
	return x12.Policy{TA1: a.TA1, NoGroups: a.With == "none", Reject: a.Reject, Whole: a.Whole, Once: a.Groups == "once",
		Receiver: p.Us.Key()}
}

// Within is the time in which the partner must acknowledge; 0 means that none is agreed.
func (p *Partner) Within() time.Duration { return p.within }

// Encoding is that of the partner's interchanges if it is neither UTF-8 nor a part of it; otherwise "".
func (p *Partner) Encoding() source.Encoding {
	if p.Characters.Set == "latin-1" {
		return source.Windows1252 // which has all of ISO 8859-1, and what people write beside it
	}
	return ""
}

// Style is how the partner wants interchanges to be written.
func (p *Partner) Style() *x12.Style { return &p.style }

var namePattern = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$`)

// slug is a partner's name in the form of a mapping's name.
func slug(name string) string {
	return strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(name)), "-")
}

// OwnMapping is the text of a partner's mapping for a set if nobody has written one: the standard mapping, for orders
// of this partner.
func (p *Partner) OwnMapping(set string) string {
	orders := ""
	if set != "850" {
		orders = fmt.Sprintf("orders: {of: %s}\n", p.Orders())
	}
	return fmt.Sprintf("koinos: mapping/1\nname: %s\nextends: x12-%s\nabout: %s to and from %s\n%sheader:\n  "+
		"partner: {value: %s}\n", p.Sets[set].Mapping, set, set, p.Name, orders, p.Name)
}

// Orders returns the kind of orders that the partner's sets are about: a customer's are about our sales orders, a
// supplier's about our purchase orders.
func (p *Partner) Orders() order.Kind {
	if p.Kind == Supplier {
		return order.Purchase
	}
	return order.Sales
}

const mostText = 1 << 20

// Parse reads a partner. The error is a finding.All with everything that is wrong.
func Parse(text []byte) (*Partner, error) {
	var all finding.All
	bad := func(where, format string, args ...any) {
		f := finding.New(finding.PartnerInvalid, origin.Place{Mapping: true}, where, format, args...)
		f.At = where
		all = append(all, f)
	}
	if len(text) > mostText {
		bad("", "The partner is longer than %d bytes.", mostText)
		return nil, all
	}
	if line := grammar.TooDeep(text); line > 0 {
		bad("", "The partner is nested more than %d levels deep, in line %d.", grammar.MostLevels, line)
		return nil, all
	}
	p := &Partner{}
	if err := decode(text, p); err != nil {
		bad("", "%s", strings.TrimSpace(yaml.FormatError(err, false, false)))
		return nil, all
	}
	p.Text = string(text)
	if p.Koinos != Version {
		bad("koinos", "A partner begins with koinos: %s.", Version)
	}
	if !namePattern.MatchString(p.Name) {
		bad("name", "name is our code of the partner: letters, digits, hyphens, points, at most 64.")
	}
	usual := func(v *string, value string) {
		if *v == "" {
			*v = value
		}
	}
	choice := func(where, v string, choices ...string) {
		if !slices.Contains(choices, v) {
			bad(where, "%s is one of %s, not %q.", where, strings.Join(choices, ", "), v)
		}
	}
	choice("kind", p.Kind, Customer, Supplier)
	for _, side := range []struct {
		where string
		id    *ID
	}{{"them", &p.Them}, {"us", &p.Us}} {
		where, id := side.where, side.id
		if len(id.Qualifier) != 2 || id.ID == "" || len(id.ID) > 15 {
			bad(where, "%s needs qualifier (two characters, such as ZZ) and id (at most 15).", where)
		}
		usual(&id.Group, id.ID)
		if len(id.Group) < 2 || len(id.Group) > 15 {
			bad(where+".group", "%s.group has two to 15 characters.", where)
		}
	}
	usual(&p.Version, "004010")
	usual(&p.Usage, "P")
	choice("usage", p.Usage, "P", "T", "I")
	usual(&p.Changes, ChangesWait)
	choice("changes", p.Changes, ChangesWait, ChangesTaken)
	if len(p.Version) < 6 || strings.Trim(p.Version[:6], "0123456789") != "" || len(p.Version) > 12 {
		bad("version", "version is six digits, such as 004010, and an industry code where there is one.")
	}
	p.characters(usual, choice, bad)
	usual(&p.Acknowledge.With, "997")
	choice("acknowledge.with", p.Acknowledge.With, "997", "999", "none")
	if p.Acknowledge.With == "none" {
		usual(&p.Acknowledge.TA1, x12.TA1Never)
	}
	usual(&p.Acknowledge.TA1, x12.TA1Needed)
	choice("acknowledge.ta1", p.Acknowledge.TA1, x12.TA1Needed, x12.TA1Asked, x12.TA1Always, x12.TA1Never)
	usual(&p.Acknowledge.Whole, x12.WholeSet)
	usual(&p.Acknowledge.Groups, "any")
	choice("acknowledge.groups", p.Acknowledge.Groups, "any", "once")
	choice("acknowledge.whole", p.Acknowledge.Whole, x12.WholeSet, x12.WholeGroup, x12.WholeInterchange)
	for _, code := range p.Acknowledge.Reject {
		if x12.InterchangeNote(code) == "" {
			bad("acknowledge.reject", "%q is no code of a fault of an interchange (TA105), such as 014 or 018.", code)
		}
	}
	if len(p.Acknowledge.Reject) > 0 && (p.Acknowledge.TA1 == x12.TA1Never || p.Acknowledge.TA1 == x12.TA1Asked) {
		bad("acknowledge.ta1", "An interchange that is rejected is answered with a TA1: acknowledge.ta1 is %s or %s.",
			x12.TA1Needed, x12.TA1Always)
	}
	if w := p.Acknowledge.Within; w != "" {
		var err error
		if p.within, err = time.ParseDuration(w); err != nil || p.within <= 0 {
			bad("acknowledge.within", "%q is no time such as 24h or 90m.", w)
		}
	}
	if len(p.Sets) == 0 {
		bad("sets", "A partner needs sets: which transaction sets are exchanged, such as \"850\": {}.")
	}
	for _, id := range slices.Sorted(maps.Keys(p.Sets)) {
		set := p.Sets[id]
		if _, carried := mappedSets[id]; !carried {
			bad("sets."+id, "Koinos exchanges no %s; it exchanges 810, 850, 855, 856, 860, 865.", id)
		}
		usual(&set.Mapping, slug(p.Name)+"-"+id)
		usual(&set.Send, "asked")
		choice("sets."+id+".send", set.Send, "asked", "due")
		if set.Unasked != nil && (id != "865" || !p.Outgoing(id)) {
			bad("sets."+id+".unasked", "Only an 865 to a customer tells what the partner has not asked for.")
		}
		p.Sets[id] = set
	}
	for _, id := range slices.Sorted(maps.Keys(p.Rules)) {
		rules := p.Rules[id]
		if x12.SetName(id) == "" {
			bad("rules."+id, "The dictionary has no transaction set %s.", id)
		}
		for i := range rules {
			if err := rules[i].Compile(); err != nil {
				bad(fmt.Sprintf("rules.%s, rule %d", id, i+1), "%v.", err)
			}
		}
	}
	if len(all) > 0 {
		return nil, all
	}
	return p, nil
}

var mappedSets = func() map[string]bool {
	m := map[string]bool{}
	for _, name := range mapping.StandardNames() {
		m[strings.TrimPrefix(name, "x12-")] = true
	}
	return m
}()

// decode reads YAML strictly. If the YAML package panics, it reports a mistake in the text.
func decode(text []byte, p *Partner) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = fmt.Errorf("the text is not readable YAML (%v)", r)
		}
	}()
	err = yaml.NewDecoder(bytes.NewReader(text), yaml.DisallowUnknownField()).Decode(p)
	if errors.Is(err, io.EOF) {
		return errors.New("the text is empty")
	}
	return err
}

func (p *Partner) characters(usual func(*string, string), choice func(string, string, ...string),
	bad func(string, string, ...any)) {
	usual(&p.Delimiters.Element, "*")
	usual(&p.Delimiters.Component, ">")
	usual(&p.Delimiters.Segment, "~")
	if p.Version >= "00402" {
		usual(&p.Delimiters.Repetition, "^")
	}
	usual(&p.Characters.Set, "extended")
	usual(&p.Characters.Others, "replace")
	usual(&p.Characters.Delimiters, "replace")
	usual(&p.Characters.Long, "refuse")
	choice("characters.set", p.Characters.Set, x12.CharacterSets...)
	choice("characters.others", p.Characters.Others, "replace", "refuse")
	choice("characters.delimiters", p.Characters.Delimiters, "replace", "refuse")
	choice("characters.long", p.Characters.Long, "refuse", "cut")
	p.style = x12.Style{Version: p.Version, LineEnds: p.LineEnds, Characters: p.Characters.Set,
		Others: p.Characters.Others, Delimiter: p.Characters.Delimiters, Long: p.Characters.Long}
	used := map[string]string{}
	for _, d := range []struct {
		where, text string
		to          *byte
	}{{"element", p.Delimiters.Element, &p.style.Delimiters.Element},
		{"component", p.Delimiters.Component, &p.style.Delimiters.Component},
		{"segment", p.Delimiters.Segment, &p.style.Delimiters.Segment},
		{"repetition", p.Delimiters.Repetition, &p.style.Delimiters.Repetition}} {
		switch {
		case d.text == "":
			continue
		case len(d.text) != 1 || d.text[0] == ' ' || d.text[0] >= 'a' && d.text[0] <= 'z' || d.text[0] >= 'A' &&
			d.text[0] <= 'Z' || d.text[0] >= '0' && d.text[0] <= '9':
			bad("delimiters."+d.where, "delimiters.%s is one character, no letter, digit or space.", d.where)
		case used[d.text] != "":
			bad("delimiters."+d.where, "delimiters.%s is the same as delimiters.%s.", d.where, used[d.text])
		default:
			*d.to = d.text[0]
			used[d.text] = d.where
		}
	}
}
