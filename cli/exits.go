package cli

import (
	"errors"

	"koinos/api"
	"koinos/client"
	"koinos/core/finding"
)

// Exit codes; docs/commands.md and koinos help exit-codes explain them.
const (
	exitFailed  = 1 // anything that has no code of its own
	exitUsage   = 2
	exitRefused = 3 // some orders were refused, the rest is in
	exitBad     = 4 // the document or mapping cannot be used
	exitAway    = 5 // no service answers
	exitLogin   = 6 // the access token is missing, unknown or too weak
	exitStopped = 7 // the load was cancelled, paused or stopped early
)

// exit is an error that ends the program with a code. A blank message means that everything has been said.
func exit(code int, message string) error { return &ending{code, errors.New(message)} }

// usage marks an error of arguments and flags.
func usage(err error) error { return &ending{exitUsage, err} }

type ending struct {
	code int
	error
}

func (e *ending) Unwrap() error { return e.error }

// exitCode is the code with which a command ends that failed.
func exitCode(err error) int {
	var e *ending
	var p *api.Problem
	switch {
	case errors.As(err, &e):
		return e.code
	case errors.Is(err, client.ErrAway):
		return exitAway
	case errors.As(err, &p):
		switch p.Code {
		case "login_needed", "not_allowed":
			return exitLogin
		case "document_unreadable", "mapping_invalid", "too_large":
			return exitBad
		}
	case len(finding.Of(err)) > 0:
		return exitBad
	}
	return exitFailed
}
