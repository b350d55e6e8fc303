package cli

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"koinos/client"
	"koinos/core/outcome"
	"koinos/core/report"
)

// showLoad prints a load that has ended and returns the exit code for it.
func (a *app) showLoad(ctx context.Context, calls *client.Client, id int64) error {
	rep, err := calls.Load(ctx, id)
	if err != nil {
		return err
	}
	if done, err := a.json(rep); done {
		return joinExit(err, &rep.Load)
	}
	report.Text(a.out, &rep.Load, rep.Reasons, a.style())
	a.nextSteps(&rep.Load)
	return joinExit(nil, &rep.Load)
}

func loadID(arg string) (int64, error) {
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || id < 1 {
		return 0, usage(fmt.Errorf("%q is not the number of a load; koinos load list shows them", arg))
	}
	return id, nil
}

// copyEnding is how the name of a marked copy of a document ends.
func copyEnding(document string) string {
	if strings.EqualFold(filepath.Ext(document), ".xlsx") {
		return ".xlsx"
	}
	return ".csv"
}

// failedEnding is how the name of a copy with only the failed orders ends: it has the format of the document.
func failedEnding(document string) string {
	ext := strings.ToLower(filepath.Ext(document))
	if slices.Contains([]string{".xlsx", ".ods", ".json", ".ndjson"}, ext) {
		return ext
	}
	return ".csv"
}

// nextSteps says what to do next.
func (a *app) nextSteps(l *outcome.Load) {
	fmt.Fprintln(a.out)
	if l.Errors+l.Warnings > 0 && l.Orders > 0 {
		fmt.Fprintf(a.out, "Every cell and row with its answer: koinos load report %d --format marked --to marked%s\n",
			l.ID, copyEnding(l.DocumentName))
	}
	if l.Failing() > 0 && l.Status != outcome.Running {
		fmt.Fprintf(a.out, "Fix many at once: koinos findings fix %d\n", l.ID)
		fmt.Fprintf(a.out, "Only what failed, to be fixed and loaded again: koinos load report %d --format failed "+
			"--to failed%s\n", l.ID, failedEnding(l.DocumentName))
	}
	if l.Held > 0 && l.Run > 0 {
		fmt.Fprintf(a.out, "When the earlier step is fixed: koinos sequence run --from-run %d\n", l.Run)
	} else if l.Held > 0 {
		fmt.Fprintf(a.out, "Held orders go in when their warnings are accepted: koinos load accept %d CODE\n", l.ID)
	}
	if l.DryRun && l.Ready+l.Differs > 0 {
		fmt.Fprintf(a.out, "Nothing was stored. To load: the same command without --dry-run.\n")
	}
	if l.Loaded > 0 {
		fmt.Fprintf(a.out, "The orders: koinos order list --load %d\n", l.ID)
	}
	fmt.Fprintf(a.out, "In the console: %s/loads/%d\n", a.address, l.ID)
}

func joinExit(err error, l *outcome.Load) error {
	switch {
	case err != nil:
		return err
	case l.Clean() || !l.Status.Ended():
		return nil
	case l.Status == outcome.Failed:
		return exit(exitBad, "")
	case l.Status == outcome.Done:
		return exit(exitRefused, "")
	}
	return exit(exitStopped, "")
}

// ignoreRefused returns nil for refused orders: looking at a load is not a failure, whatever became of it.
func ignoreRefused(err error) error {
	var e *ending
	if errors.As(err, &e) && e.Error() == "" {
		return nil
	}
	return err
}
