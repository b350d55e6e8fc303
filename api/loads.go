package api

import (
	"koinos/core/finding"
	"koinos/core/list"
)

// Act is one thing that somebody can do about many findings at once.
type Act struct {
	Kind     string     `json:"kind" enum:"crosswalk,list,dates,accept" doc:"crosswalk, list: an entry for each value; dates: one more form of a date in the mapping; accept: a warning that holds orders"`
	Name     string     `json:"name" doc:"Of the crosswalk or list, the field, or the warning's code"`
	About    string     `json:"about"`
	Findings int        `json:"findings"`
	Orders   int        `json:"orders" doc:"Orders that it may bring in"`
	Values   []ActValue `json:"values,omitempty" doc:"What is to be said of each value, the most frequent first"`
	Field    string     `json:"field,omitempty" doc:"list and dates: the field, lines.field of a line"`
	Form     string     `json:"form,omitempty" doc:"dates: the form that most of the values have"`
}

// ActValue is a value that an act is about.
type ActValue struct {
	Value   string `json:"value"`
	Count   int    `json:"count"`
	Nearest string `json:"nearest,omitempty" doc:"What the list has that is nearest; of a crosswalk, what that is with us"`
}

// Fix is a decision about a load's findings.
type Fix struct {
	Crosswalks map[string][]list.Pair  `json:"crosswalks,omitempty" doc:"Pairs to add, by crosswalk"`
	Lists      map[string][]list.Entry `json:"lists,omitempty" doc:"Entries to add, by list"`
	Means      map[string][]list.Pair  `json:"means,omitempty" doc:"What values of a field are with us, by field of the header, or lines.field; they go into the field's crosswalk, which is made where it has none"`
	Dates      map[string]string       `json:"dates,omitempty" doc:"A form of a date to add, by field of the header, or lines.field"`
	Accept     []finding.Code          `json:"accept,omitempty" doc:"Warnings that shall not hold orders"`
}

// Undone is the result of undoing a load.
type Undone struct {
	Load    int64   `json:"load"`
	DryRun  bool    `json:"dry_run,omitempty"`
	Removed int     `json:"removed" doc:"Orders that the load had stored, and that are gone now"`
	Changed int     `json:"changed" doc:"Orders that the load had changed, and that are as before now"`
	Kept    int     `json:"kept" doc:"Orders that could not be taken back"`
	Why     []Taken `json:"why" doc:"The first of those, and why"`
}
