package shell

import (
	"errors"

	"koinos/api"
	"koinos/client"
	"koinos/core/finding"
)

// Exit codes; docs/commands.md and koinos help exit-codes explain them.
const (
	ExitFailed  = 1 // anything that has no code of its own
	ExitUsage   = 2
	ExitRefused = 3 // some orders were refused, the rest is in
	ExitBad     = 4 // the document or mapping cannot be used
	ExitAway    = 5 // no service answers
	ExitLogin   = 6 // the access token is missing, unknown or too weak
	ExitStopped = 7 // the load was cancelled, paused or stopped early
)

// Exit is an error that ends the program with a code. A blank message means that everything has been said.
func Exit(code int, message string) error { return &ending{code, errors.New(message)} }

// Usage marks an error of arguments and flags.
func Usage(err error) error { return &ending{ExitUsage, err} }

type ending struct {
	code int
	error
}

func (e *ending) Unwrap() error { return e.error }

// ExitCode is the code with which a command ends that failed.
func ExitCode(err error) int {
	var e *ending
	var p *api.Problem
	switch {
	case errors.As(err, &e):
		return e.code
	case errors.Is(err, client.ErrAway):
		return ExitAway
	case errors.As(err, &p):
		switch p.Code {
		case "login_needed", "not_allowed":
			return ExitLogin
		case "document_unreadable", "mapping_invalid", "too_large":
			return ExitBad
		}
	case len(finding.Of(err)) > 0:
		return ExitBad
	}
	return ExitFailed
}
