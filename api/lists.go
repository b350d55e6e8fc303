package api

import "time"

// ListInfo is a reference list or crosswalk without its entries.
type ListInfo struct {
	Name       string    `json:"name"`
	Crosswalk  bool      `json:"crosswalk,omitempty"`
	Version    int       `json:"version" doc:"One more with every change"`
	Entries    int       `json:"entries"`
	ImportedAt time.Time `json:"imported_at"`
}
