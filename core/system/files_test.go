package system

import (
	"encoding/json"
	"fmt"
	"koinos/core/finding"
	"strings"
	"testing"
)

const yardFiles = `koinos: system/1
name: yard
folder: /srv/yard
records:
  despatch:
    files:
      path: out
      names: DSP*.txt
      unfinished: [.part, "~"]
      segments: {end: "'", element: "+", component: ":", release: "?"}
      begins: DSP
      groups: LIN
      head: {kind: HDR, id: "$[1]"}
      tail:
        kind: END
        id: "$[1]"
        counts: [{of: records, at: "$[2]"}, {of: parts, at: "$[3]"}, {of: LIN, at: "$[4]"}]
        sums: [{of: "$.LIN[*].LIN[3]", at: "$[5]"}]
      answer: {path: in, name: "ACK-{id}.txt", text: "ACK+{id}+{word}+{records}+{why}'", words: {taken: OK, refused: NO}}
    key: $.DSP[1]
    lines: "$.LIN[*]"
    mapping: m
  count:
    files: {path: out, kind: $.t, begins: [c, d], tail: {kind: end, counts: [{of: records, at: $.n}]}}
    key: "$.c.id"
  sheet:
    files: {path: out, segments: {end: '\n', element: ";", quoted: '"'}, begins: O, head: {kind: H}}
    key: "$.O[1]"
`

// Files of other programs, and what is found in them: the records as JSON, or why the file
// is not taken.
func TestFile(t *testing.T) {
	s, err := Parse([]byte(yardFiles))
	if err != nil {
		t.Fatal(err)
	}
	const good = "HDR+F1+20260318'\r\nDSP+771+SO?+1'NTE+it?'s here'LIN+1+00113+60'LOT+B7:x'LOT+B8'LIN+2+00110+40.5'\n" +
		"DSP+772+'LIN+1+00113+1'END+F1+2+10+3+101.5'\n"
	records := `/0 {"DSP":["DSP","771","SO+1"],"file":{"name":"f","head":["HDR","F1","20260318"]},"NTE":[["NTE","it's here"]],` +
		`"LIN":[{"LIN":["LIN","1","00113","60"],"LOT":[["LOT",["B7","x"]],["LOT","B8"]]},{"LIN":["LIN","2","00110","40.5"]}]}` + "\n" +
		`/1 {"DSP":["DSP","772",""],"file":{"name":"f","head":["HDR","F1","20260318"]},"LIN":[{"LIN":["LIN","1","00113","1"]}]}` + "\n"
	for _, c := range []struct {
		name, kind, text string
		// what is found; ~ is that it is not complete, ! why it is refused, !! that it cannot be read
		want string
	}{
		{"good", "despatch", good, "F1\n" + records},
		{"with a byte order mark", "despatch", "\ufeff" + good, "F1\n" + records},
		{"without its end", "despatch", strings.TrimSuffix(good, "END+F1+2+10+3+101.5'\n"), "F1 ~"},
		{"with half of its end", "despatch", strings.TrimSuffix(good, "101.5'\n"), "F1 ~"},
		{"nothing yet", "despatch", "", " ~"},
		{"another id at its end", "despatch", strings.Replace(good, "END+F1", "END+F2", 1),
			`F1 ! Its END names it "F2", not "F1".`},
		{"a record is missing", "despatch", strings.Replace(good, "+2+10+", "+3+10+", 1),
			`F1 ! Its END says that there are "3" records; there are 2.`},
		{"a segment is missing", "despatch", strings.Replace(good, "LOT+B8'", "", 1),
			`F1 ! Its END says that there are "10" parts; there are 9.`},
		{"a quantity is another", "despatch", strings.Replace(good, "00113+60", "00113+61", 1),
			`F1 ! Its END says that $.LIN[*].LIN[3] adds up to "101.5"; it adds up to 102.5.`},
		{"a quantity is none", "despatch", strings.Replace(good, "00113+60", "00113+six", 1),
			`F1 ! "six" at $.LIN[*].LIN[3] is no number.`},
		{"another head", "despatch", strings.Replace(good, "HDR", "HEAD", 1),
			`F1 ! It begins with HEAD, not with HDR.`},
		{"a record without its key", "despatch", strings.Replace(good, "DSP+772", "DSP+", 1),
			`F1 ! Record 2 has no key at $.DSP[1].`},
		{"a key twice", "despatch", strings.Replace(good, "DSP+772", "DSP+771", 1),
			`F1 ! Record 2 has the key 771, like one before it.`},
		{"something before the first record", "despatch", "HDR+F1'LIN+1+a+1'END+F1+0+3+1+1'",
			"F1 ! Part 1 is LIN, with which no record begins."},
		{"not text", "despatch", "HDR+\xff'", "!! the answer is not text in UTF-8"},
		{"lines of JSON", "count",
			"{\"t\":\"c\",\"id\":9007199254740993}\n\n{\"t\":\"row\",\"n\":1}\n{\"t\":\"end\",\"n\":1}\n",
			"\n" + `/0 {"c":{"t":"c","id":9007199254740993},"file":{"name":"f"},"row":[{"t":"row","n":1}]}` + "\n"},
		{"a line that grows", "count", "{\"t\":\"c\",\"id\":1}\n{\"t\":\"en", " ~"},
		{"a line that is broken", "count", "{\"t\":\"c\n{\"t\":\"end\"}\n", "!! the answer is not JSON at line 1"},
		{"rows of a table", "sheet", "H;1\r\nO;\"A;\"\"1\"\"\";x\r\nL;1;\" \"\r\n",
			"\n" + `/0 {"O":["O","A;\"1\"","x"],"file":{"name":"f","head":["H","1"]},"L":[["L","1"," "]]}` + "\n"},
		{"a row that grows", "sheet", "H;1\nO;A;", " ~"},
	} {
		got := ""
		f, err := s.Records[c.kind].File("f", []byte(c.text))
		switch {
		case err != nil:
			got = "!! " + err.Error()
		case !f.Complete:
			got = f.ID + " ~"
		case f.Wrong != "":
			got = f.ID + " ! " + f.Wrong
		default:
			got = f.ID + "\n"
			for _, r := range f.Records {
				got += r.Place + " " + string(r.Raw) + "\n"
			}
		}
		if got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.name, got, c.want)
		}
	}
	despatch := s.Records["despatch"].Files
	for name, want := range map[string]bool{"DSP1.txt": true, "DSP1.txt.part": false, "dsp1.txt": false,
		"DSP~": false} {
		if despatch.Reads(name) != want {
			t.Errorf("%s is read: %t", name, !want)
		}
	}
	name, text := despatch.Answer.Fill("../F1", "taken", 2, "")
	if name != "ACK-.._F1.txt" || text != "ACK+../F1+OK+2+'" {
		t.Errorf("answered by %q: %q", name, text)
	}
	if _, text := despatch.Answer.Fill("F1", "repeated", 0,
		"It came before."); text != "ACK+F1+repeated+0+It came before.'" {
		t.Errorf("answered by %q", text)
	}
}

// What is wrong with a description of files, each at its place.
func TestParseFiles(t *testing.T) {
	const whole = "koinos: system/1\nname: yard\nfolder: /srv/yard\nrecords:\n  a:\n    files: {path: out, kind: " +
		"$.t, begins: x}\n    key: $.x\n"
	for _, c := range []struct{ was, is, want string }{
		{"folder: /srv/yard\n", "", "2:7 say where the system is: address, for an API, or folder, for files."},
		{"folder: /srv/yard\n", "address: https://a.example\n",
			"5:3 a is read by list, because the system has an address."},
		{"path: out", "path: ../out", `6:19 "../out" is no folder below the system's.`},
		{"kind: $.t, ", "", "6:19 say segments: with its separators, or kind: where a line of JSON has its kind, or " +
			"whole: true, if the mapping reads the file as it is."},
		{"kind: $.t", `segments: {end: "''", element: "+"}`, `6:40 "''" is not one character.`},
		{"kind: $.t", `kind: $.t, answer: {path: in, name: ack, text: ok}`,
			"6:60 the name of an answer needs {id}, and no folder."},
		{"records:", "hooks: {signature: {token: {header: X, secret: {env: Y}}}, events: {\"*\": {record: a, at: " +
			"$}}}\nrecords:",
			"4:9 a folder sends no webhooks."},
		{"    key: $.x", "    get: {path: \"/o/{key}\"}\n    key: $.x",
			"7:11 a record that comes as files has no get."},
	} {
		_, err := Parse([]byte(strings.Replace(whole, c.was, c.is, 1)))
		if got := places(err); got != c.want {
			t.Errorf("%s:\n got %s\nwant %s", c.is, got, c.want)
		}
	}
}

// FuzzFile looks for bytes that the reader of files does not stand; what it finds can be
// written as JSON again.
func FuzzFile(f *testing.F) {
	s, err := Parse([]byte(yardFiles))
	if err != nil {
		f.Fatal(err)
	}
	f.Add("HDR+F1'DSP+1?'+a:b'LIN+1'LOT+2'END+F1+1+5+1+0'")
	f.Add("{\"t\":\"c\",\"id\":1}\n{\"t\":\"end\",\"n\":1}\n")
	f.Add("H;1\nO;\"a\"\"\n\";2\n")
	f.Fuzz(func(t *testing.T, text string) {
		for _, r := range s.Records {
			file, err := r.File("f", []byte(text))
			if err != nil {
				continue
			}
			for _, found := range file.Records {
				if !json.Valid(found.Raw) {
					t.Errorf("%s is no JSON", found.Raw)
				}
			}
		}
	})
}

func places(err error) string {
	var all []string
	for _, f := range finding.Of(err) {
		all = append(all, fmt.Sprintf("%d:%d %s", f.Place.Row, f.Place.Column, f.Message))
	}
	return strings.Join(all, "; ")
}

// Separators that a file tells itself, and kinds that several elements tell.
func TestToldSeparators(t *testing.T) {
	s, err := Parse([]byte(`koinos: system/1
name: dock
folder: /srv/dock
records:
  slip:
    files:
      path: in
      segments:
        end: "'"
        element: "+"
        component: ":"
        release: "?"
        told: {begins: UNA, skip: 9, component: 4, element: 5, release: 7, end: 9}
      kind: ["$[0]", "$[1]"]
      begins: [REC H]
      groups: [REC P]
      tail: {kind: END, counts: [{of: records, at: "$[1]"}]}
    key: $['REC H'][2]
    lines: $['REC P'][*]
    mapping: dock
`))
	if err != nil {
		t.Fatal(err)
	}
	for text, want := range map[string]string{
		"REC+H+A?+1'REC+P+7:x'LOT+b'END'": "",
		"REC+H+A?+1'REC+P+7:x'LOT+b'END+1'": `{"REC H":["REC","H","A+1"],"file":{"name":"x"},"REC P":[{"REC ` +
			`P":["REC","P",["7","x"]],"LOT":[["LOT","b"]]}]}`,
		"UNA*|.! ~REC|H|A!|1~REC|P|7*x'~END|1~": `{"REC H":["REC","H","A|1"],"file":{"name":"x"},"REC P":[{"REC ` +
			`P":["REC","P",["7","x'"]]}]}`,
		"UNA*|.  ~REC|H|A?|1~END|1~": `{"REC H":["REC","H","A?","1"],"file":{"name":"x"}}`,
		"UNA":                        "",
		"":                           "",
		"UNA*|.! ~REC|H|A!|1~REC|P|7*x'~END|1~REC+H+B'END+1'": "",
	} {
		f, err := s.Records["slip"].File("x", []byte(text))
		got := ""
		if err == nil && f.Complete && f.Wrong == "" && len(f.Records) == 1 {
			got = string(f.Records[0].Raw)
		}
		if got != want {
			t.Errorf("%s: %s, %+v %v", text, got, f, err)
		}
	}
}
