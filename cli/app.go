package cli

import (
	"encoding/json"
	"io"
	"os"

	"github.com/mattn/go-isatty"
	"golang.org/x/term"

	"koinos/client"
	"koinos/core/report"
)

// DefaultAddress is where a service listens and a client looks for it.
const DefaultAddress = "127.0.0.1:8740"

// app is what every command needs.
type app struct {
	in       io.Reader
	out, err io.Writer
	address  string
	token    string
	output   string
}

func (a *app) client() *client.Client { return client.New(a.address, a.token) }

// json writes v if the caller asked for JSON.
func (a *app) json(v any) (bool, error) {
	if a.output != "json" {
		return false, nil
	}
	enc := json.NewEncoder(a.out)
	enc.SetIndent("", "  ")
	return true, enc.Encode(v)
}

// written is a file that a command wrote, as JSON.
type written struct {
	File     string `json:"file"`
	Problems int    `json:"problems,omitempty"` // values that have no place in it
}

// style says how a report looks on the way out: colours only on a terminal.
func (a *app) style() report.Style {
	f, ok := a.out.(*os.File)
	if !ok || !isatty.IsTerminal(f.Fd()) {
		return report.Style{}
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		width = 0
	}
	return report.Style{Color: os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb", Width: width}
}

// watched reports whether a person sees the error stream, where progress goes.
func (a *app) watched() bool {
	f, ok := a.err.(*os.File)
	return ok && isatty.IsTerminal(f.Fd()) && a.output == "table"
}

// outFile is a file to write; "" is standard output, which a person can also call "-".
type outFile string

func (f *outFile) Set(s string) error {
	if *f = outFile(s); s == "-" {
		*f = ""
	}
	return nil
}

func (f *outFile) String() string { return string(*f) }

func (f *outFile) Type() string { return "string" }
