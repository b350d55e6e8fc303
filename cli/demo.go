package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"koinos/client"
	"koinos/core/finding"
	"koinos/core/report"
	"koinos/core/sheet"
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
	c.Flags().StringVar(&listen, "listen", DefaultAddress, "host:port on loopback")
	c.Flags().StringVar(&data, "data", "", "data folder to keep; left out, a temporary one")
	return c
}

func (a *app) runDemo(ctx context.Context, listen, data string) error {
	logFile, err := os.OpenFile(filepath.Join(data, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if os.IsNotExist(err) {
		if err = os.MkdirAll(data, 0o700); err == nil {
			logFile, err = os.OpenFile(filepath.Join(data, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		}
	}
	if err != nil {
		return err
	}
	defer logFile.Close()
	r, err := start(ctx, data, service.Config{Listen: listen, Limits: source.DefaultLimits}, slog.New(slog.NewTextHandler(logFile, nil)))
	if err != nil {
		return err
	}
	parent := ctx
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	ended := make(chan error, 1)
	go func() { ended <- r.serve(ctx) }()
	if err := a.fillDemo(ctx, client.New(r.address(), ""), data); err != nil {
		cancel()
		<-ended
		if parent.Err() != nil {
			return nil // Ctrl-C
		}
		return err
	}
	examples := filepath.Join(data, "examples")
	bold := func(s string) string {
		if a.style().Color {
			return "\x1b[1m" + s + "\x1b[0m"
		}
		return s
	}
	flag := ""
	if r.address() != "http://"+DefaultAddress {
		flag = " --address " + r.address()
	}
	at, self := r.address(), os.Args[0]
	fmt.Fprintf(a.out, `
%[1]s
  Loads       %[2]s/loads        what was refused and why, cell by cell
  Orders      %[2]s/orders       the order paper, and where each value came from
  Documents   %[2]s/documents    drop a file, choose a mapping, try it

From another terminal:
  %[3]s load show 5%[4]s
  %[3]s load report 5 --format marked --to marked.csv%[4]s
  %[3]s inspect %[5]s/ostrand-week-12.xlsx

Ctrl-C ends the demo.
`, bold("Koinos is running at "+at), at, self, flag, examples)
	return <-ended
}

// fillDemo imports and loads the scenario.
func (a *app) fillDemo(ctx context.Context, api *client.Client, data string) error {
	fmt.Fprintln(a.out, "Quillmere Chandlery sets up its books.")
	counts := [2]int{}
	for i, folder := range []string{"lists", "lists/crosswalks"} {
		for _, name := range demo.Names(folder) {
			b, err := demo.Files.ReadFile(folder + "/" + name)
			if err != nil {
				return err
			}
			entries, err := sheet.ReadEntries(bytes.NewReader(b), int64(len(b)), i == 1)
			if err != nil {
				return fmt.Errorf("%s: %w", name, err)
			}
			name = strings.TrimSuffix(name, path.Ext(name))
			if i == 1 {
				err = api.PutCrosswalk(ctx, name, sheet.Pairs(entries))
			} else {
				err = api.PutList(ctx, name, entries)
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
		if _, err := api.KeepMapping(ctx, b); err != nil {
			return fmt.Errorf("%s: %w", name, err)
		}
	}
	fmt.Fprintf(a.out, "  %d lists, %d crosswalks, %d mappings\n\n", counts[0], counts[1], len(names))
	if err := os.MkdirAll(filepath.Join(data, "examples"), 0o700); err != nil {
		return err
	}
	var rows [][]string
	for _, step := range demo.Steps {
		b, err := demo.Files.ReadFile("documents/" + step.Document)
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(data, "examples", step.Document), b, 0o600); err != nil {
			return err
		}
		rep, err := LoadDocument(ctx, api, step.Document, bytes.NewReader(b), client.NewLoad{Mapping: step.Mapping})
		if err != nil {
			return fmt.Errorf("%s: %w", step.Document, err)
		}
		l := rep.Load
		why := "–"
		if l.Unchanged > 0 {
			why = report.Plural(l.Unchanged, "order") + " loaded before"
		}
		var reasons []string
		for _, r := range rep.Reasons {
			if r.Severity == finding.Error {
				reasons = append(reasons, r.Title)
			}
		}
		if len(reasons) > 0 {
			const named = 2
			why = strings.Join(reasons[:min(named, len(reasons))], "; ")
			if more := len(reasons) - named; more > 0 {
				why += "; and " + report.Plural(more, "other reason")
			}
		}
		rows = append(rows, []string{fmt.Sprint(l.ID), step.Document, num(l.Orders), num(l.Loaded), num(l.Refused), why})
	}
	report.Table(a.out, []string{">load", "document", ">orders", ">loaded", ">refused", "why refused"}, rows)
	return nil
}

// LoadDocument sends a document in, loads it, and waits for the load's end.
func LoadDocument(ctx context.Context, api *client.Client, name string, r io.Reader, req client.NewLoad) (client.LoadReport, error) {
	doc, err := api.SendDocument(ctx, name, r)
	if err != nil {
		return client.LoadReport{}, err
	}
	req.Document = doc.SHA
	l, err := api.StartLoad(ctx, req)
	if err != nil {
		return client.LoadReport{}, err
	}
	if _, err := api.WatchLoad(ctx, l.ID, func(report.Load) {}); err != nil {
		return client.LoadReport{}, err
	}
	return api.Load(ctx, l.ID)
}
