package api

import (
	"koinos/core/source"
	"time"
)

// Document is one file that was received, stored byte for byte.
type Document struct {
	SHA        string       `json:"sha"`
	Name       string       `json:"name"`
	Size       int64        `json:"size"`
	Shape      source.Shape `json:"shape"`
	ReceivedAt time.Time    `json:"received_at"`
	ReceivedBy string       `json:"received_by"`
	Loads      int          `json:"loads"`

	TakenAwayAt *time.Time `json:"taken_away_at,omitempty" doc:"Since when its bytes are not kept any more; the same file sent again brings them back"`
}
