package x12

// interchangeNotes are the faults of an interchange that a TA1 can name (TA105, element I18), as they go on behind "the
// interchange has".
var interchangeNotes = map[string]string{
	"001": "a control number in its trailer that is not the one of its header",
	"002": "a standard that is not supported",
	"003": "a version of the envelope that is not supported",
	"004": "a wrong segment terminator",
	"005": "a wrong qualifier of the sender's id",
	"006": "a wrong sender's id",
	"007": "a wrong qualifier of the receiver's id",
	"008": "a wrong receiver's id",
	"009": "a receiver's id that is not known",
	"010": "a wrong qualifier of the authorization information",
	"011": "wrong authorization information",
	"012": "a wrong qualifier of the security information",
	"013": "wrong security information",
	"014": "a wrong date",
	"015": "a wrong time",
	"016": "a wrong standards identifier",
	"017": "a wrong version of the envelope",
	"018": "a wrong control number",
	"019": "a wrong value for whether it asks for an acknowledgment",
	"020": "a wrong usage indicator",
	"021": "a wrong number of groups",
	"022": "a wrong structure of its envelope",
	"023": "no end: the file ends too early",
	"024": "wrong content",
	"025": "a control number that came before",
	"026": "a wrong data element separator",
	"027": "a wrong component element separator",
	"028": "a wrong day of deferred delivery",
	"029": "a wrong time of deferred delivery",
	"030": "a wrong time code of deferred delivery",
	"031": "a wrong grade of service",
}

// InterchangeNote returns what a code of TA105 says that is wrong with an interchange, such as "a wrong date"; "" means
// that the standard has no such code, or that it says that nothing is wrong.
func InterchangeNote(code string) string { return interchangeNotes[code] }
