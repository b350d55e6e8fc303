package demo

import (
	"embed"
	"encoding/json"
	"io/fs"
	"path"
	"strings"

	"koinos/core/order"
)

//go:generate go run ./make .

// Files are the scenario's files: lists, lists/crosswalks, mappings, sequences, documents, expected, partners, orders,
// systems.
//
//go:embed lists mappings sequences documents expected partners orders systems syncs
var Files embed.FS

// Step is one document with the mapping that it is loaded through, in the
// order in which the demo does it.
type Step struct {
	Document, Mapping string
}

// Steps are the demo's loads.
var Steps = []Step{
	{"slipway-2026-q1.csv", "slipway-export"},
	{"saltry-march.csv", "saltry-orders"},
	{"ostrand-week-12.xlsx", "ostrand-weekly"},
	{"ebbing-paints-march.xlsx", "ebbing-purchases"},
	{"kestle-confirmations.csv", "kestle-open-orders"},
}

// Run is the document that the demo runs through a sequence, after its loads:
// purchase orders first, then the sales orders that carry their numbers.
var Run = struct{ Document, Sequence string }{"drop-ship-week-13.xlsx", "drop-ship"}

// Changes is a document that would change stored orders; the demo tries it in
// a dry run.
var Changes = Step{"saltry-changes.csv", "saltry-changes"}

// Season is a document of which two orders in three fail, for few reasons.
var Season = Step{"saltry-season.csv", "saltry-orders"}

// Expected is what must come out of a document.
type Expected struct {
	Orders  int            `json:"orders"`
	Lines   int            `json:"lines"`
	Loaded  int            `json:"loaded"`
	Refused int            `json:"refused"`
	Codes   map[string]int `json:"codes"` // how often each code is found
}

// Expect reads what must come out of a document.
func Expect(document string) (e Expected, err error) {
	b, err := Files.ReadFile("expected/" + strings.TrimSuffix(document, path.Ext(document)) + ".json")
	if err != nil {
		return e, err
	}
	return e, json.Unmarshal(b, &e)
}

// Orders reads orders that a trading partner gets or gives, by its name.
func Orders(name string) (list []order.Order, err error) {
	b, err := Files.ReadFile("orders/" + name + ".json")
	if err != nil {
		return nil, err
	}
	return list, json.Unmarshal(b, &list)
}

// Names lists the files of a folder of the scenario, without their folder. It
// panics on a folder that the scenario does not have.
func Names(folder string) []string {
	entries, err := fs.ReadDir(Files, folder)
	if err != nil {
		panic(err) // the files are part of the program
	}
	var names []string
	for _, e := range entries {
		if !e.IsDir() {
			names = append(names, e.Name())
		}
	}
	return names
}
