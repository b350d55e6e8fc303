package api

import "time"

// KeepExport keeps an export under its name.
type KeepExport struct {
	Choice   string `json:"choice" doc:"Query of export-orders: partner=PELLOW&open=true" maxLength:"20000"`
	Position int64  `json:"position,omitempty" minimum:"0" doc:"Of the change feed, up to which orders were written; by default the one that is kept stays"`
}

// ExportMapping is a mapping with which an exported table can be loaded.
type ExportMapping struct {
	Name string `json:"name"`
	Text string `json:"text" doc:"YAML"`
}

// ExportColumn is a column that a table of orders can have.
type ExportColumn struct {
	Name   string `json:"name" doc:"As export-orders takes it; those of lines stand behind lines."`
	About  string `json:"about"`
	Family bool   `json:"family,omitempty" doc:"The name ends in an asterisk: a word of your own stands there, such as custom.hull_no"`
}

// ExportColumns are the columns that a table of orders can have.
type ExportColumns struct {
	Items []ExportColumn      `json:"items"`
	Usual map[string][]string `json:"usual" doc:"The columns that are written if none is named, by layout"`
}

// Export is a choice of orders, columns and layout that is stored under a name.
type Export struct {
	Name     string    `json:"name" db:"name" doc:"Small letters, digits and hyphens"`
	Choice   string    `json:"choice" db:"choice" doc:"Query of export-orders: partner=PELLOW&open=true"`
	Position int64     `json:"position,omitempty" db:"position" doc:"Of the change feed, up to which orders were written under this name; 0 leaves it as it is"`
	At       time.Time `json:"at,omitzero" db:"-"`
	By       string    `json:"by,omitempty" db:"by"`
}
