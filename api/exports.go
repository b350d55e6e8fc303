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

// Export is a choice of orders, columns and layout that is stored under a name.
type Export struct {
	Name     string    `json:"name" db:"name" doc:"Small letters, digits and hyphens"`
	Choice   string    `json:"choice" db:"choice" doc:"Query of export-orders: partner=PELLOW&open=true"`
	Position int64     `json:"position,omitempty" db:"position" doc:"Of the change feed, up to which orders were written under this name; 0 leaves it as it is"`
	At       time.Time `json:"at,omitzero" db:"-"`
	By       string    `json:"by,omitempty" db:"by"`
}
