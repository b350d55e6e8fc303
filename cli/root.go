package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"koinos/api"
	"koinos/cli/documents"
	"koinos/cli/orders"
	"koinos/cli/partners"
	"koinos/cli/running"
	"koinos/cli/shell"
	"koinos/cli/systems"
	"koinos/core/finding"
	"koinos/core/report"
)

const exitCodes = `Koinos ends with one of these codes:

  0  all done; of a load: every order is in, or would be
  1  something went wrong that has no code of its own
  2  the command was not understood
  3  of a load or a run: some orders were refused, held or withheld; the rest is in.
     Of an exchange or a sync: something is held. Of a reconcile: something differs
  4  the document or the mapping cannot be used; of x12 check and diff: there are findings
  5  no service answers at the address; of a sync or a pull: a system is away
  6  the access token is missing, unknown, or does not allow it
  7  the load was cancelled, paused, or stopped after as many failures as allowed`

// Main runs the command line and returns its exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	context.AfterFunc(ctx, stop) // a second signal ends what does not come to its end
	a := &shell.App{In: in, Out: out, Err: errOut}
	root := commands(a)
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return 0
	}
	code := shell.ExitCode(err)
	if err.Error() != "" {
		if a.Output == "json" {
			printError(a, err)
		} else {
			fmt.Fprintln(errOut, "koinos: "+err.Error())
		}
	}
	return code
}

// printError writes an error as JSON, for programs.
func printError(a *shell.App, err error) {
	var p *api.Problem
	if !errors.As(err, &p) {
		p = &api.Problem{Type: "about:blank", Title: err.Error(), Code: "command_failed", Findings: finding.Of(err)}
	}
	enc := json.NewEncoder(a.Err)
	enc.SetIndent("", "  ")
	_ = enc.Encode(p) // nowhere left to report to
}

func commands(a *shell.App) *cobra.Command {
	root := &cobra.Command{
		Use:   "koinos",
		Short: "Order documents in, orders out, and an answer for every row",
		Long: `Koinos takes order documents as partners send them, maps them onto sales and
purchase orders, loads them, and says what is wrong and where.

Start with "koinos demo" to see it at work, or "koinos inspect FILE" to see what
is in a document.`,
		SilenceErrors: true, SilenceUsage: true, SuggestionsMinimumDistance: 2, Version: shell.Version(),
	}
	flags := root.PersistentFlags()
	address := "http://" + shell.DefaultAddress
	if v := os.Getenv("KOINOS_ADDRESS"); v != "" {
		address = v
	}
	flags.StringVar(&a.Address, "address", address, "where the service is; $KOINOS_ADDRESS")
	flags.StringVar(&a.Token, "token", "", "access token; $KOINOS_TOKEN is safer")
	flags.StringVarP(&a.Output, "output", "o", "table", "table for people, json for programs")
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if a.Token == "" {
			a.Token = os.Getenv("KOINOS_TOKEN")
		}
		if !strings.Contains(a.Address, "://") {
			a.Address = "http://" + a.Address
		}
		if a.Output != "table" && a.Output != "json" {
			return shell.Usage(fmt.Errorf("--output is table or json, not %q", a.Output))
		}
		return nil
	}
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return shell.Usage(fmt.Errorf("%w; see %s --help", err, c.CommandPath()))
	})
	for i, g := range []struct {
		title    string
		commands []*cobra.Command
	}{
		{"Documents and loads:", documents.Commands(a)},
		{"Orders:", orders.Commands(a)},
		{"Partners and other systems:", slices.Concat(partners.Commands(a), systems.Commands(a))},
		{"The service:", append(running.Commands(a), version(a))},
	} {
		id := strconv.Itoa(i)
		root.AddGroup(&cobra.Group{ID: id, Title: g.title})
		for _, c := range g.commands {
			c.GroupID = id
		}
		root.AddCommand(g.commands...)
		root.SetHelpCommandGroupID(id)
		root.SetCompletionCommandGroupID(id)
	}
	root.AddCommand(&cobra.Command{Use: "exit-codes", Short: "What the exit codes mean", Long: exitCodes}, manual())
	checkArgs(root)
	root.RunE = func(c *cobra.Command, args []string) error {
		if len(args) > 0 {
			return unknown(c, args[0])
		}
		_, err := fmt.Fprint(a.Out, firstThings)
		return err
	}
	return root
}

// firstThings is what koinos prints without arguments.
const firstThings = `Koinos loads order documents, keeps orders in step with partners and systems,
and says what is wrong and where.

  koinos demo                      start a service with the data of a made-up trade
  koinos serve                     start a service of your own, with its console
  koinos inspect FILE              see what is in a document; no service needed
  koinos mapping draft FILE        draft the mapping that reads it as orders
  koinos load FILE --mapping NAME  load its orders; --dry-run only tries it

koinos --help lists all commands; koinos COMMAND --help explains one.
`

// manual writes the manual pages, for make install.
func manual() *cobra.Command {
	return &cobra.Command{Use: "manual FOLDER", Short: "Write the manual pages into a folder", Hidden: true,
		Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if err := os.MkdirAll(args[0], 0o755); err != nil {
				return err
			}
			c.Root().DisableAutoGenTag = true
			return doc.GenManTree(c.Root(), &doc.GenManHeader{Title: "KOINOS", Section: "1", Source: "Koinos " + shell.Version(),
				Manual: "Koinos"}, args[0])
		}}
}

// unknown reports that a command has no such subcommand.
func unknown(c *cobra.Command, word string) error {
	near := ""
	if words := c.SuggestionsFor(word); len(words) > 0 {
		near = fmt.Sprintf("; did you mean %s?", strings.Join(words, " or "))
	}
	return shell.Usage(fmt.Errorf("%q is not known to %s%s; see %s --help", word, c.CommandPath(), near, c.CommandPath()))
}

// checkArgs makes wrong arguments end with the code for wrong usage, and a noun without a verb show its help.
func checkArgs(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(c *cobra.Command, args []string) error {
			if check(c, args) == nil {
				return nil
			}
			_, wants, _ := strings.Cut(c.Use, " ")
			switch {
			case wants == "":
				return shell.Usage(fmt.Errorf("%s takes nothing besides options, not %q; see %s --help", c.CommandPath(),
					args[0], c.CommandPath()))
			case len(args) == 0:
				return shell.Usage(fmt.Errorf("%s needs %s; see %s --help", c.CommandPath(), wants, c.CommandPath()))
			}
			return shell.Usage(fmt.Errorf("%s takes %s, not %s; see %s --help", c.CommandPath(), wants,
				report.Plural(len(args), "argument"), c.CommandPath()))
		}
	}
	if c.Run == nil && c.RunE == nil && c.HasSubCommands() {
		c.Args = cobra.ArbitraryArgs
		c.RunE = func(c *cobra.Command, args []string) error {
			if len(args) == 0 {
				return c.Help()
			}
			return unknown(c, args[0])
		}
	}
	for _, sub := range c.Commands() {
		checkArgs(sub)
	}
}

func version(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "version", Short: "Print the version of Koinos", Args: cobra.NoArgs, Example: "  koinos version",
		RunE: func(*cobra.Command, []string) error {
			if done, err := a.JSON(map[string]string{"version": shell.Version(), "go": runtime.Version()}); done {
				return err
			}
			fmt.Fprintf(a.Out, "koinos %s, built with %s\n", shell.Version(), runtime.Version())
			return nil
		},
	}
}
