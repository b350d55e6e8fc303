package api

import (
	"slices"
	"strings"
	"time"
)

// Token is what is known about an access token. The token itself is not stored.
type Token struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Scope     string     `json:"scope" enum:"read,load,admin"`
	CreatedAt time.Time  `json:"created_at"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
	ExpiresAt *time.Time `json:"expires_at,omitempty" doc:"When it ends by itself"`
	Narrowed
}

// Narrowed says what a token is limited to; without names, it allows everything that its scope allows.
type Narrowed struct {
	Partners []string `json:"partners,omitempty" maxItems:"100" doc:"Only orders of these partners, by our codes"`
	Mappings []string `json:"mappings,omitempty" maxItems:"100" doc:"Only loads through these mappings"`
}

// Is reports whether a token is limited.
func (n *Narrowed) Is() bool { return len(n.Partners)+len(n.Mappings) > 0 }

// Partner reports whether it allows orders of a partner.
func (n *Narrowed) Partner(code string) bool { return anyOrAmong(n.Partners, code) }

// Mapping reports whether it allows loads through a mapping.
func (n *Narrowed) Mapping(name string) bool { return anyOrAmong(n.Mappings, name) }

func anyOrAmong(names []string, name string) bool {
	return len(names) == 0 || slices.ContainsFunc(names, func(n string) bool { return strings.EqualFold(n, name) })
}

// Audit is one thing that an administrator changed.
type Audit struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by" doc:"Name of the token, or local"`
	Token   int64     `json:"token,omitempty" doc:"Its number; absent if none was needed"`
	From    string    `json:"from" doc:"Address that the request came from"`
	Did     string    `json:"did" doc:"The operation, as this description calls it"`
	Path    string    `json:"path"`
	Status  int       `json:"status" doc:"HTTP status of the answer"`
	Request string    `json:"request" doc:"X-Request-Id of the answer, as the log has it"`
}
