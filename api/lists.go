package api

import "time"

// ListInfo is a reference list or crosswalk without its entries.
type ListInfo struct {
	Name       string     `json:"name"`
	Crosswalk  bool       `json:"crosswalk,omitempty"`
	Version    int        `json:"version" doc:"One more with every change; 0 where it ships with Koinos"`
	Entries    int        `json:"entries"`
	ImportedAt *time.Time `json:"imported_at,omitempty"`
	Shipped    bool       `json:"shipped,omitempty" doc:"It ships with Koinos; one that is imported under its name takes its place"`
}
