package running

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"koinos/api"
	"koinos/cli/shell"
	"koinos/client"
	"koinos/core/finding"
	"koinos/core/listfile"
	"koinos/core/outcome"
	"koinos/core/report"
	"koinos/core/source"
	"koinos/demo"
	"koinos/service"
)

func (a *app) demo() *cobra.Command {
	var listen, data string
	c := &cobra.Command{
		Use: "demo", Short: "Run Koinos with the data of a made-up trade, to try it out", Args: cobra.NoArgs,
		Long: `Demo starts a service with an empty data folder, imports the lists, crosswalks and
mappings of Quillmere Chandlery, a made-up wholesaler of boat supplies, loads
its partners' documents, and says what happened and where to look. Without
--data everything is gone when it ends.`,
		Example: "  koinos demo\n  koinos demo --listen 127.0.0.1:9000 --data ./demo-data",
		RunE: func(c *cobra.Command, _ []string) error {
			if data == "" {
				dir, err := os.MkdirTemp("", "koinos-demo-*")
				if err != nil {
					return err
				}
				defer os.RemoveAll(dir)
				data = dir
			}
			return a.runDemo(c.Context(), listen, data)
		},
	}
	c.Flags().StringVar(&listen, "listen", shell.DefaultAddress, "host:port on loopback")
	c.Flags().StringVar(&data, "data", "", "data folder; by default a temporary one")
	return c
}

func (a *app) runDemo(ctx context.Context, listen, data string) error {
	// A folder in use may be that of a real trade, which must not find a made-up one among its orders.
	switch there, err := os.ReadDir(data); {
	case err != nil && !os.IsNotExist(err):
		return shell.Exit(shell.ExitBad, fmt.Sprintf("the folder %s cannot be read: %v", data, errors.Unwrap(err)))
	case len(there) > 0:
		return shell.Exit(shell.ExitBad, fmt.Sprintf("the folder %[1]s is not empty, and the demo fills an empty one: "+
			"choose another, or see what is there with koinos serve --data %[1]s", data))
	}
	if err := os.MkdirAll(data, 0o700); err != nil {
		return err
	}
	logFile, err := os.OpenFile(filepath.Join(data, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer logFile.Close()
	log := slog.New(slog.NewTextHandler(logFile, nil))
	if err := playSystems(ctx, filepath.Join(data, "yard")); err != nil {
		return err
	}
	r, err := start(ctx, data, service.Config{Listen: listen, Limits: source.DefaultLimits,
		Exchange: filepath.Join(data, "exchange")}, log)
	if err != nil {
		return err
	}
	parent := ctx
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- r.serve(ctx) }()
	calls := client.New(r.address(), "")
	err = a.fillDemo(ctx, calls, data)
	if err == nil {
		err = a.fillExchange(ctx, calls, filepath.Join(data, "exchange"), log)
	}
	if err == nil {
		err = a.fillSystems(ctx, calls)
	}
	if err != nil {
		cancel()
		<-ended
		if parent.Err() != nil {
			return nil // Ctrl-C
		}
		return err
	}
	examples := filepath.Join(data, "examples")
	bold := func(s string) string {
		if a.Style().Color {
			return "\x1b[1m" + s + "\x1b[0m"
		}
		return s
	}
	flag := ""
	if r.address() != "http://"+shell.DefaultAddress {
		flag = " --address " + r.address()
	}
	at, self := r.address(), os.Args[0]
	fmt.Fprintf(a.Out, `
%[1]s
  Today       %[2]s/today        what needs attention, and the orders of the last days
  Loads       %[2]s/loads        what was refused and why, cell by cell
  Orders      %[2]s/orders       the order paper, and where each value came from
  Exchange    %[2]s/exchange     what was exchanged by X12, and what is held
  Systems     %[2]s/systems      the web shop: its orders as they came, the calls, a try
  Documents   %[2]s/documents    drop a file, choose a mapping, try it

From another terminal:
  %[3]s load show 5%[4]s
  %[3]s findings fix 9%[4]s
  %[3]s load report 5 --format failed --to failed.csv%[4]s
  %[3]s exchange list%[4]s
  %[3]s system push ledgerline sales_order SL-1029 --dry-run%[4]s
  %[3]s inspect %[5]s/ostrand-week-12.xlsx

Ctrl-C ends the demo.
`, bold("Koinos is running at "+at), at, self, flag, examples)
	return <-ended
}

// fillDemo imports and loads the scenario.
func (a *app) fillDemo(ctx context.Context, calls *client.Client, data string) error {
	fmt.Fprintln(a.Out, "Quillmere Chandlery sets up its books.")
	counts := [2]int{}
	for i, folder := range []string{"lists", "lists/crosswalks"} {
		for _, name := range demo.Names(folder) {
			b, err := demo.Files.ReadFile(folder + "/" + name)
			if err != nil {
				return err
			}
			entries, err := listfile.Read(bytes.NewReader(b), int64(len(b)), i == 1)
			if err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			name = strings.TrimSuffix(name, path.Ext(name))
			if i == 1 {
				err = calls.PutCrosswalk(ctx, name, listfile.Pairs(entries))
			} else {
				err = calls.PutList(ctx, name, entries)
			}
			if err != nil {
				return err
			}
			counts[i]++
		}
	}
	names := demo.Names("mappings")
	for _, name := range names {
		b, err := demo.Files.ReadFile("mappings/" + name)
		if err != nil {
			return err
		}
		if _, err := calls.KeepMapping(ctx, b); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	sequences := demo.Names("sequences")
	for _, name := range sequences {
		b, err := demo.Files.ReadFile("sequences/" + name)
		if err != nil {
			return err
		}
		if _, err := calls.KeepSequence(ctx, b); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	fmt.Fprintf(a.Out, "  %d lists, %d crosswalks, %d mappings, %s\n\n", counts[0], counts[1], len(names),
		report.Plural(len(sequences), "sequence"))
	if err := os.MkdirAll(filepath.Join(data, "examples"), 0o700); err != nil {
		return err
	}
	var rows [][]string
	add := func(rep api.LoadReport, what string) {
		l := rep.Load
		if what == "" {
			what = whyRefused(&rep)
		}
		rows = append(rows, []string{fmt.Sprint(l.ID), l.DocumentName, shell.Num(l.Orders), shell.Num(l.Loaded + l.Differs),
			shell.Num(l.Failing()), what})
	}
	example := func(name string) (*bytes.Reader, error) {
		b, err := demo.Files.ReadFile("documents/" + name)
		if err != nil {
			return nil, err
		}
		return bytes.NewReader(b), os.WriteFile(filepath.Join(data, "examples", name), b, 0o600)
	}
	for _, step := range demo.Steps {
		doc, err := example(step.Document)
		if err != nil {
			return err
		}
		rep, err := LoadDocument(ctx, calls, step.Document, doc, api.NewLoad{Mapping: step.Mapping})
		if err != nil {
			return fmt.Errorf("%s: %w", step.Document, err)
		}
		add(rep, "")
	}
	doc, err := example(demo.Run.Document)
	if err != nil {
		return err
	}
	run, err := RunDocument(ctx, calls, demo.Run.Document, doc, demo.Run.Sequence)
	if err != nil {
		return fmt.Errorf("%s: %w", demo.Run.Document, err)
	}
	for _, l := range run.Loads {
		rep, err := calls.Load(ctx, l.ID)
		if err != nil {
			return err
		}
		add(rep, "step "+l.Step+": "+whyRefused(&rep))
	}
	if doc, err = example(demo.Changes.Document); err != nil {
		return err
	}
	rep, err := LoadDocument(ctx, calls, demo.Changes.Document, doc,
		api.NewLoad{Mapping: demo.Changes.Mapping, Options: outcome.Options{DryRun: true}})
	if err != nil {
		return fmt.Errorf("%s: %w", demo.Changes.Document, err)
	}
	add(rep, "a dry run: orders that are stored would be changed")
	if doc, err = example(demo.Season.Document); err != nil {
		return err
	}
	if rep, err = LoadDocument(ctx, calls, demo.Season.Document, doc,
		api.NewLoad{Mapping: demo.Season.Mapping}); err != nil {
		return fmt.Errorf("%s: %w", demo.Season.Document, err)
	}
	add(rep, "")
	report.Table(a.Out, []string{">load", "document", ">orders", ">good", ">failed", "why"}, rows)
	return nil
}

// whyRefused names the first reasons for which orders failed.
func whyRefused(rep *api.LoadReport) string {
	var reasons []string
	for _, r := range rep.Reasons {
		if r.Severity == finding.Error && !slices.Contains(reasons, r.Title) {
			reasons = append(reasons, r.Title)
		}
	}
	if len(reasons) == 0 {
		return "–"
	}
	const named = 2
	why := strings.Join(reasons[:min(named, len(reasons))], "; ")
	if more := len(reasons) - named; more > 0 {
		why += "; and " + report.Plural(more, "other reason")
	}
	return why
}

// RunDocument sends a document in, runs it through a sequence, and waits for
// the run's end.
func RunDocument(ctx context.Context, calls *client.Client, name string, r io.ReadSeeker, sequence string) (outcome.Run,
	error) {
	doc, err := calls.SendDocument(ctx, name, r)
	if err != nil {
		return outcome.Run{}, err
	}
	run, err := calls.StartRun(ctx, api.NewRun{Document: doc.SHA, Sequence: sequence})
	for err == nil && run.Status == outcome.Running {
		select {
		case <-ctx.Done():
			return run, ctx.Err()
		case <-time.After(10 * time.Millisecond):
			run, err = calls.Run(ctx, run.ID)
		}
	}
	return run, err
}

// LoadDocument sends a document in, loads it, and waits for the load's end.
func LoadDocument(ctx context.Context, calls *client.Client, name string, r io.ReadSeeker, req api.NewLoad) (api.LoadReport,
	error) {
	doc, err := calls.SendDocument(ctx, name, r)
	if err != nil {
		return api.LoadReport{}, err
	}
	req.Document = doc.SHA
	l, err := calls.StartLoad(ctx, req)
	if err != nil {
		return api.LoadReport{}, err
	}
	if _, err := calls.WatchLoad(ctx, l.ID, func(outcome.Load) {}); err != nil {
		return api.LoadReport{}, err
	}
	return calls.Load(ctx, l.ID)
}
