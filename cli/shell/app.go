package shell

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

// App is what every command needs.
type App struct {
	In       io.Reader
	Out, Err io.Writer
	Address  string
	Token    string
	Output   string
}

// Client calls the service that the command is told of.
func (a *App) Client() *client.Client { return client.New(a.Address, a.Token) }

// JSON writes v if the caller asked for JSON.
func (a *App) JSON(v any) (bool, error) {
	if a.Output != "json" {
		return false, nil
	}
	enc := json.NewEncoder(a.Out)
	enc.SetIndent("", "  ")
	return true, enc.Encode(v)
}

// Written is a file that a command wrote, as JSON.
type Written struct {
	File     string `json:"file"`
	Problems int    `json:"problems,omitempty"` // values that have no place in it
}

// Style says how a report looks on the way out: colours only on a terminal.
func (a *App) Style() report.Style {
	f, ok := a.Out.(*os.File)
	if !ok || !isatty.IsTerminal(f.Fd()) {
		return report.Style{}
	}
	width, _, err := term.GetSize(int(f.Fd()))
	if err != nil {
		width = 0
	}
	return report.Style{Color: os.Getenv("NO_COLOR") == "" && os.Getenv("TERM") != "dumb", Width: width}
}

// Watched reports whether a person sees the error stream, where progress goes.
func (a *App) Watched() bool {
	f, ok := a.Err.(*os.File)
	return ok && isatty.IsTerminal(f.Fd()) && a.Output == "table"
}

// OutFile is a file to write; "" is standard output, which a person can also call "-".
type OutFile string

func (f *OutFile) Set(s string) error {
	if *f = OutFile(s); s == "-" {
		*f = ""
	}
	return nil
}

func (f *OutFile) String() string { return string(*f) }

func (f *OutFile) Type() string { return "string" }
