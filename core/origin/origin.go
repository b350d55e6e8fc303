package origin

import "time"

// Origin is where an order, or a change of one, came from. Fields that do not apply are blank.
type Origin struct {
	At           time.Time      `json:"at"`
	By           string         `json:"by" doc:"Person, program or partner"`
	Document     string         `json:"document,omitempty" doc:"SHA-256 of the document, or of the body that was posted"`
	DocumentName string         `json:"document_name,omitempty"`
	Load         int64          `json:"load,omitempty" doc:"The load that brought it"`
	Seq          int            `json:"load_seq,omitempty" doc:"Which order of that load's document it was"`
	Mapping      string         `json:"mapping,omitempty"`
	Version      int            `json:"mapping_version,omitempty"`
	Lists        map[string]int `json:"lists,omitempty" doc:"Versions of the lists and crosswalks that were in force"`
	Interchange  int64          `json:"interchange,omitempty" doc:"The interchange that brought it"`
	Set          int            `json:"set,omitempty" doc:"Which transaction set of that interchange"`
}
