package system

import "koinos/core/grammar"

// Version is the first line of every description of this grammar.
const Version = "system/1"

// secret is a value that never stands in a description itself.
func secret(about string) *grammar.Shape {
	return &grammar.Shape{Kind: grammar.Object, One: true,
		About: about + ": where it is found, never the value itself", Keys: []grammar.Key{
			grammar.May("env", grammar.Some("Name of an environment variable of the service")),
			grammar.May("file", grammar.Some("Path of a file on the service's machine, whose text it is")),
		}}
}

func named(about, each string) *grammar.Shape {
	return &grammar.Shape{Kind: grammar.Table, About: about, Items: grammar.Some(each)}
}

const path = "path (RFC 9535) within the answer"

// signingIn are the ways in which a system knows who calls.
var signingIn = &grammar.Shape{Kind: grammar.Object, One: true, About: "How the system knows who calls",
	Keys: []grammar.Key{
		grammar.May("bearer", secret("A token that goes along as Authorization: Bearer")),
		grammar.May("header", grammar.Group("A key in a header",
			grammar.Must("name", grammar.Some("Name of the header")),
			grammar.Must("value", secret("The key")),
			grammar.May("prefix", grammar.Some("What stands in front of the key, such as Token; a space follows it")))),
		grammar.May("query", grammar.Group("A key in the address",
			grammar.Must("name", grammar.Some("Name of the parameter")),
			grammar.Must("value", secret("The key")))),
		grammar.May("basic", grammar.Group("A name and a password (RFC 7617)",
			grammar.May("user", grammar.Some("The name")),
			grammar.May("password", secret("The password")),
			grammar.May("key", secret("A key that stands for the name, with a blank password")))),
		grammar.May("signed", secret("The secret with which every request is signed, as Standard Webhooks has it")),
		grammar.May("client_credentials", grammar.Group("Tokens of OAuth 2.0 (RFC 6749, section 4.4)",
			grammar.Must("token", grammar.Some("Address of the token endpoint, whole or below the system's address")),
			grammar.Must("id", secret("The client's id")),
			grammar.Must("secret", secret("The client's secret")),
			grammar.May("scope", grammar.Some("The scopes asked for, a space between them")),
			grammar.May("in", grammar.OneOf("Where id and secret go: in an Authorization header (the default), or in "+
				"the body", "header", "body")))),
	}}

// going are the ways in which a list goes on.
var going = &grammar.Shape{Kind: grammar.Object, One: true,
	About: "How a list goes on behind its first page; by default it is whole", Keys: []grammar.Key{
		grammar.May("link", grammar.Some("Relation of the Link header (RFC 8288) that has the next page, usually next")),
		grammar.May("next", grammar.Some("Address of the next page, whole or relative: "+path)),
		grammar.May("cursor", grammar.Group("A cursor that the answer gives",
			grammar.Must("parameter", grammar.Some("Parameter that takes it")),
			grammar.May("from", grammar.Some("Where the answer has it: "+path)),
			grammar.May("header", grammar.Some("Header of the answer that has it")),
			grammar.May("more", grammar.Some("Where the answer says true as long as there is more: "+path)))),
		grammar.May("page", grammar.Group("Pages with numbers",
			grammar.Must("parameter", grammar.Some("Parameter that takes the number")),
			grammar.May("first", &grammar.Shape{Kind: grammar.Integer, About: "Number of the first page; by default 1"}),
			grammar.May("more", grammar.Some("Where the answer says true as long as there is more: "+path)),
			grammar.May("pages", grammar.Some("Where the answer says how many pages there are: "+path)))),
		grammar.May("offset", grammar.Group("Records are counted",
			grammar.Must("parameter", grammar.Some("Parameter that takes how many records are passed over")),
			grammar.May("more", grammar.Some("Where the answer says true as long as there is more: "+path)),
			grammar.May("total", grammar.Some("Where the answer says how many records there are: "+path)))),
	}}

// listing are the words of a list, with more of one kind of list.
func listing(about string, more ...grammar.Key) *grammar.Shape {
	return grammar.Group(about, append([]grammar.Key{
		grammar.Must("path", grammar.Some("Path below the system's address; where lines of a record are asked for, {key} is "+
			"the record's key")),
		grammar.May("graphql",
			grammar.Some("A GraphQL query that is sent there; parameters are its variables, and {key} is "+
				"the variable $key")),
		grammar.May("method",
			grammar.OneOf("GET (the default), or POST: parameters are then members of a JSON body, those with "+
				"points in their names of objects in it", "GET", "POST")),
		grammar.May("query", named("Parameters of the first page",
			"Value; where lines of a record are asked for, {key} is the "+
				"record's key")),
		grammar.Must("records", grammar.Some("Where the records stand: "+path)),
		grammar.May("may_lack", &grammar.Shape{Kind: grammar.Boolean,
			About: "An answer without the list, or with null for it, has no records; by default it is an error"}),
		grammar.May("paging", going),
		grammar.May("size",
			grammar.Some("The parameter that says how many a page has: it is made smaller where an answer is too "+
				"large, or costs too much"))}, more...)...)
}

// anew is how a list, or a feed, is asked for what is new.
var anew = grammar.May("since", grammar.Group("How only what is new is asked for",
	grammar.Must("parameter", grammar.Some("Parameter, or variable, that takes the time")),
	grammar.May("form", grammar.OneOf("How it is written: as RFC 3339 has it (the default), in seconds or "+
		"milliseconds since 1970, as a day (2026-03-02), plainly in UTC (2026-03-02 10:05:00); number is no time "+
		"but a running number", "rfc3339", "seconds", "milliseconds", "date", "plain", "number")),
	grammar.May("as", grammar.Some("What the parameter takes, with {since} in it, such as updated_at>{since}")),
	grammar.May("overlap", grammar.Some("How far before the newest stamp that was seen it begins, such as 5m: "+
		"clocks go back, and stamps stand still while a list is read"))))

// record is one kind of thing that a system has.
var record = grammar.Group("One kind of record",
	grammar.May("about", grammar.Some("What it is, in a sentence")),
	grammar.May("files", filing),
	grammar.May("list", listing("How many are got at once", anew)),
	grammar.May("feed", listing("Where the system says which records changed: each of its rows names one, which is "+
		"then got by "+
		"itself. The list is read only where everything is asked for", anew,
		grammar.Must("key", grammar.Some("Where a row has the record's key: path within the row")),
		grammar.May("stamp", grammar.Some("Where a row has its number or time: path within the row")),
		grammar.May("gone", grammar.Group("When a row says that the record is not one any more",
			grammar.Must("path", grammar.Some("What says so: path within the row")),
			grammar.Must("is", grammar.Many("The values that say so")))))),
	grammar.May("get", grammar.Group("How one is got",
		grammar.Must("path", grammar.Some("Path below the system's address; {key} is the record's key, here or under query")),
		grammar.May("graphql", grammar.Some("A GraphQL query that asks for it there, with the variable $key")),
		grammar.May("query", named("Parameters", "Value; {key} is the record's key")),
		grammar.May("whole", &grammar.Shape{Kind: grammar.Boolean,
			About: "The list shows only a part of a record: each that is " +
				"new there is asked for by itself"}),
		grammar.May("record",
			grammar.Some("Where the record stands in the answer; by default the answer is the record")))),
	grammar.May("rest", &grammar.Shape{Kind: grammar.ListOf,
		About: "Parts of a record that its list does not show, such as " +
			"further lines, payments or shipments; they are read when the record has changed",
		Items: listing("One of them",
			grammar.Must("into", grammar.Some("The record's list to which they are added: path within the record; it "+
				"need not be there")),
			grammar.May("more", grammar.Some("Where a record says true if it has more: path within the record; by default "+
				"they are always asked for")),
			grammar.May("from", grammar.Some("Where a record has the cursor from which they go on: path within the record")),
			grammar.May("anew", &grammar.Shape{Kind: grammar.Boolean,
				About: "They are all lines, not only the further ones"}))}),
	grammar.May("tells", grammar.Group("Each of these tells that another record changed, such as a payment of its "+
		"order: that is "+
		"read anew then, and this one needs no mapping",
		grammar.Must("record", grammar.Some("Which kind of record; its description says how one is got (get)")),
		grammar.Must("key", grammar.Some("Where its key stands: path within this record")))),
	grammar.Must("key", grammar.Some("What names a record for good: path (RFC 9535) within the record")),
	grammar.May("number", grammar.Some("What people call it: path within the record")),
	grammar.May("version", grammar.Some("What changes whenever the record does: path within the record")),
	grammar.May("stamp", grammar.Some("When it changed last, as the system says: path within the record")),
	grammar.May("lines", grammar.Some("Its lines: path within the record")),
	grammar.May("lines_count", grammar.Some("How many lines it should have: path within the record. One with fewer is "+
		"read alone; where it stays short it is left out, and each further pull reads it again")),
	grammar.May("gone", grammar.Group("When a record is not one any more",
		grammar.Must("path", grammar.Some("What says so: path within the record")),
		grammar.Must("is", grammar.Many("The values that say so")))),
	grammar.May("mapping", grammar.Some("The mapping that makes orders of it, where a pull names none")),
	grammar.May("find", found),
	grammar.May("refers", referring),
	grammar.May("write", writing),
	grammar.May("fields", describing),
)

// words is everything that may stand in a description.
var words = grammar.Group("Another application, described",
	grammar.Must("koinos", grammar.OneOf("Version of the grammar", Version)),
	grammar.Must("name", grammar.Some("Name of the system: small letters, digits and hyphens")),
	grammar.May("about", grammar.Some("What the system is, in a sentence")),
	grammar.May("folder",
		grammar.Some("Where its files are, if it has no API: a folder of the service's machine. {env: NAME} in "+
			"it is taken from the service's environment")),
	grammar.May("address", grammar.Some("Where its API is: https://shop.example/api; plain http is allowed on "+
		"this machine only. {env: NAME} in it is taken from the service's environment")),
	grammar.May("headers", named("Headers that go along with every request", "Value")),
	grammar.May("auth", signingIn),
	grammar.May("limits", grammar.Group("How gently the system is called",
		grammar.May("rate", grammar.Some("Requests a second; by default 10")),
		grammar.May("burst", grammar.Whole("How many may follow each other at once; by default 1")),
		grammar.May("at_once", grammar.Whole("How many are under way side by side; by default 4")),
		grammar.May("timeout", grammar.Some("How long an answer may take, such as 30s (the default)")),
		grammar.May("largest", grammar.Whole("How many MiB an answer may have; by default 16")),
		grammar.May("wait", grammar.Group("Where an answer says how long nothing may be asked",
			grammar.Must("path", grammar.Some("Where it says so: "+path)),
			grammar.May("unit", grammar.OneOf("What it counts; by default seconds", "seconds", "milliseconds")))),
		grammar.May("budget", grammar.Group("Points that calls cost, and that come back in time",
			grammar.Must("left", grammar.Some("Where an answer says how many are left: "+path)),
			grammar.Must("a_second",
				grammar.Some("How many come back in a second: a number, or where an answer says it")),
			grammar.Must("keep", grammar.Whole("How many are to be left: with fewer, the next call waits")))))),
	grammar.May("answers",
		grammar.OneOf("Answers are JSON and say so (json, the default); with any they are read as JSON "+
			"whatever content type they say", "json", "any")),
	grammar.May("errors", failing),
	grammar.May("hooks", receiving),
	grammar.Must("records", &grammar.Shape{Kind: grammar.Table, About: "What the system has, by names of your own: " +
		"order, shipment", Items: record}),
)

// Schema is the grammar as a JSON Schema (draft 2020-12).
func Schema() map[string]any {
	defs := map[string]any{}
	s := words.Schema(defs)
	s["$schema"], s["title"] = grammar.Draft, "Koinos system, version 1"
	if len(defs) > 0 {
		s["$defs"] = defs
	}
	return s
}
