package system

import (
	"time"

	"koinos/core/grammar"
	"koinos/core/jsondoc"
)

// Hooks is how a system tells us what happened there.
type Hooks struct {
	Signature Signature
	Tolerance time.Duration // how far its clock may be from ours
	Event     *jsondoc.Path // which event a message is about
	Events    map[string]*Event
	Register  *Registering // nil: somebody does it by hand
}

// Registering is how our address is registered with a system. {url} and {secret} in what is sent are our address and
// the secret of the signature.
type Registering struct {
	Request
	List   *List         // of those that are there; nil is none
	URL    *jsondoc.Path // where one of them has its address
	Secret *jsondoc.Path // where the answer has the secret, if the system gives it; nil is that we do
}

// Event is what a message of one kind is about.
type Event struct {
	Record string
	Key    *jsondoc.Path // of the record; nil where the record stands in the message
	At     *jsondoc.Path // the record; nil where only its key does
}

// Signature is how a message proves where it comes from: Standard Webhooks, an HMAC in a header, or the secret itself.
type Signature struct {
	Standard    bool
	Token       bool   // the secret itself goes along in the header
	Secret, Old Secret // Old is still believed while a secret is changed
	HasOld      bool
	Header      string // of the HMAC
	Prefix      string // in front of it
	Base64      bool   // else hexadecimal
	Time        string // header with the time, seconds since 1970; "" is none
	Over        string // what it is of: {time}, {id} and {body} in a text
	Part        string // of a header such as t=…,v1=…: the one that is the HMAC; "" is all of it
	TimePart    string // and the one that is the time
	ID          string // header with the message's id; "" is none
	IDAt        *jsondoc.Path
}

// receiving are the words about messages of a system.
var receiving = grammar.Group("How the system tells of what happened there, by POST to /hooks/NAME of this service",
	grammar.Must("signature", &grammar.Shape{Kind: grammar.Object, One: true,
		About: "How a message proves where it comes from",
		Keys: []grammar.Key{
			grammar.May("standard",
				grammar.Group("As Standard Webhooks has it: webhook-id, webhook-timestamp, webhook-signature",
					grammar.Must("secret", secret("The secret, whsec_…")),
					grammar.May("old_secret", secret("The secret before, while it is changed: both are believed")))),
			grammar.May("token", grammar.Group("The secret itself in a header, for systems that do not sign",
				grammar.Must("header", grammar.Some("Name of the header")),
				grammar.Must("secret", secret("The secret")),
				grammar.May("old_secret", secret("The secret before, while it is changed: both are believed")),
				grammar.May("id", grammar.Some("Header with the message's id")),
				grammar.May("id_at", grammar.Some("Where the message has its id, if no header does: path")))),
			grammar.May("hmac", grammar.Group("HMAC-SHA256 in a header",
				grammar.Must("header", grammar.Some("Name of the header")),
				grammar.Must("secret", secret("The secret")),
				grammar.May("old_secret", secret("The secret before, while it is changed: both are believed")),
				grammar.May("prefix", grammar.Some("What stands in front of it, such as sha256=")),
				grammar.May("encoding", grammar.OneOf("How it is written; by default hex", "hex", "base64")),
				grammar.May("part", grammar.Some("Where the header has several, such as t=…,v1=…: the one that is the HMAC")),
				grammar.May("time_part", grammar.Some("And the one that is the time, in seconds since 1970")),
				grammar.May("time", grammar.Some("Header with the time, in seconds since 1970")),
				grammar.May("over", grammar.Some("What it is made of: a text with {time} and {body}; by default {body}")),
				grammar.May("id", grammar.Some("Header with the message's id")),
				grammar.May("id_at", grammar.Some("Where the message has its id, if no header does: path")))),
		}}),
	grammar.May("register",
		request("How our address is made known to the system. {url} and {secret} under with are our address and "+
			"the secret", "POST",
			grammar.May("list", listing("Those that are there")),
			grammar.May("url", grammar.Some("Where one of those has its address: path within it")),
			grammar.May("secret",
				grammar.Some("Where the answer has the secret, if the system gives it: path. It goes into the file of "+
					"the signature's secret")))),
	grammar.May("tolerance", grammar.Some("How far the time of a message may be from ours; by default 5m")),
	grammar.May("event", grammar.Some("Where a message says which event it is about: path. Without it there is one kind")),
	grammar.Must("events", &grammar.Shape{Kind: grammar.Table,
		About: "The events that bring something, by their names; * is any",
		Items: grammar.Group("One event",
			grammar.Must("record", grammar.Some("The kind of record that it is about")),
			grammar.May("key", grammar.Some("Where the message has the record's key: path. The record is then asked for")),
			grammar.May("at", grammar.Some("Where the message has the whole record: path")))}))

// Of returns what a message is about; nil is an event that brings nothing.
func (h *Hooks) Of(body []byte) (name string, e *Event, err error) {
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return "", nil, &AnswerError{"", "is not JSON"}
	}
	name = scalar(h.Event, root)
	if e = h.Events[name]; e == nil {
		e = h.Events["*"]
	}
	return name, e, nil
}

// Find returns the key of the record that a message is about, and the record if the message contains it.
func (e *Event) Find(r *Record, body []byte) (key string, whole *Found, err error) {
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return "", nil, &AnswerError{"", "is not JSON"}
	}
	if e.At != nil {
		f, err := r.alone(root, body, e.At)
		return f.Key, &f, err
	}
	if key = scalar(e.Key, root); key == "" {
		return "", nil, &AnswerError{e.Key.String(), "has no key"}
	}
	return key, nil, nil
}

func (b *builder) hooks(s *System, n *grammar.Node) *Hooks {
	if n == nil {
		return nil
	}
	h := &Hooks{Tolerance: b.duration(n.Get("tolerance"), 5*time.Minute), Event: b.path(n.Get("event")),
		Events: map[string]*Event{}}
	kind := n.Get("signature").Entries[0]
	v, g := kind.Node, &h.Signature
	g.Standard, g.Token, g.Secret, g.Over = kind.Key == "standard", kind.Key == "token", secretOf(v.Get("secret")),
		"{body}"
	if old := v.Get("old_secret"); old != nil {
		g.Old, g.HasOld = secretOf(old), true
	}
	if !g.Standard {
		g.Header, g.Prefix, g.Time, g.ID, g.IDAt = v.Str("header"), v.Str("prefix"), v.Str("time"), v.Str("id"),
			b.path(v.Get("id_at"))
		g.Part, g.TimePart = v.Str("part"), v.Str("time_part")
		if g.TimePart != "" && (g.Part == "" || g.Time != "") {
			b.wrong(v.Get("time_part"), "time_part is a part of the header beside part; time is a header of its own.")
		}
		g.Base64 = v.Str("encoding") == "base64"
		if over := v.Str("over"); over != "" {
			g.Over = over
		}
	}
	for _, e := range n.Get("events").Entries {
		is := &Event{Record: e.Node.Str("record"), Key: b.path(e.Node.Get("key")), At: b.path(e.Node.Get("at"))}
		h.Events[e.Key] = is
		r := s.Records[is.Record]
		switch {
		case r == nil:
			b.wrong(e.Node.Get("record"), "%q is no kind of record here; there are %v.", is.Record, s.RecordNames())
		case (is.Key == nil) == (is.At == nil):
			b.wrong(e.Node.Get("record"),
				"say either key: where the message has the record's key, or at: where it has the record.")
		case is.Key != nil && r.Get == "":
			b.wrong(e.Node.Get("key"), "to ask for a record by its key, say get: of %s.", is.Record)
		case r.Mapping == "" && r.Tells == nil:
			b.wrong(e.Node.Get("record"), "say mapping: of %s, which makes orders of it.", is.Record)
		}
	}
	h.Register = b.registering(n.Get("register"), g)
	if h.Event == nil && (len(h.Events) != 1 || h.Events["*"] == nil) {
		b.wrong(n.Get("events").Entries[0].Node.Get("record"),
			"say event: where a message has its event, or name one event *.")
	}
	return h
}

func (b *builder) registering(n *grammar.Node, g *Signature) *Registering {
	if n == nil {
		return nil
	}
	r := &Registering{Request: *b.request(n, "POST", "{url}"), URL: b.path(n.Get("url")),
		Secret: b.path(n.Get("secret"))}
	if list := n.Get("list"); list != nil {
		l := b.list(list)
		r.List = &l
	}
	if (r.List == nil) != (r.URL == nil) {
		b.wrong(n.Get("path"), "list and url go together: those that are there, and where one has its address.")
	}
	if r.Secret != nil && g.Secret.File == "" {
		b.wrong(n.Get("secret"),
			"a secret that the system gives needs a file to go into: signature: {…: {secret: {file: PATH}}}.")
	}
	return r
}

// ValueAt returns the value at a path of a message; "" if there is none.
func ValueAt(p *jsondoc.Path, body []byte) string {
	root, _, err := jsondoc.Parse(body, 1)
	if err != nil || root == nil {
		return ""
	}
	return scalar(p, root)
}
