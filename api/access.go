package api

import "time"

// Token is what is known of an access token; the token itself is not kept.
type Token struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Scope     string     `json:"scope" enum:"read,load,admin"`
	CreatedAt time.Time  `json:"created_at"`
	UsedAt    *time.Time `json:"used_at,omitempty"`
	RevokedAt *time.Time `json:"revoked_at,omitempty"`
	ExpiresAt *time.Time `json:"expires_at,omitempty" doc:"When it ends by itself"`
}

// Audit is one thing that an administrator changed.
type Audit struct {
	ID      int64     `json:"id"`
	At      time.Time `json:"at"`
	By      string    `json:"by" doc:"Name of the token, or local"`
	Token   int64     `json:"token,omitempty" doc:"Its number; left out, none was needed"`
	From    string    `json:"from" doc:"Address that the request came from"`
	Did     string    `json:"did" doc:"The operation, as this description calls it"`
	Path    string    `json:"path"`
	Status  int       `json:"status" doc:"HTTP status of the answer"`
	Request string    `json:"request" doc:"X-Request-Id of the answer, as the log has it"`
}
