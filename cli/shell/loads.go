package shell

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

// ShowLoad prints a load that has ended and returns the exit code for it.
func (a *App) ShowLoad(ctx context.Context, calls *client.Client, id int64) error {
	rep, err := calls.Load(ctx, id)
	if err != nil {
		return err
	}
	if done, err := a.JSON(rep); done {
		return JoinExit(err, &rep.Load)
	}
	report.Text(a.Out, &rep.Load, rep.Reasons, a.Style())
	a.nextSteps(&rep.Load)
	return JoinExit(nil, &rep.Load)
}

// LoadID is the id of a load that an argument names.
func LoadID(arg string) (int64, error) {
	id, err := strconv.ParseInt(arg, 10, 64)
	if err != nil || id < 1 {
		return 0, Usage(fmt.Errorf("%q is not the number of a load; koinos load list shows them", arg))
	}
	return id, nil
}

// CopyEnding is how the name of a marked copy of a document ends.
func CopyEnding(document string) string {
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
func (a *App) nextSteps(l *outcome.Load) {
	fmt.Fprintln(a.Out)
	if l.Errors+l.Warnings > 0 && l.Orders > 0 {
		fmt.Fprintf(a.Out, "Every cell and row with its answer: koinos load report %d --format marked --to marked%s\n",
			l.ID, CopyEnding(l.DocumentName))
	}
	if l.Failing() > 0 && l.Status != outcome.Running {
		fmt.Fprintf(a.Out, "Fix many at once: koinos findings fix %d\n", l.ID)
		fmt.Fprintf(a.Out, "Only what failed, to be fixed and loaded again: koinos load report %d --format failed "+
			"--to failed%s\n", l.ID, failedEnding(l.DocumentName))
	}
	if l.Held > 0 && l.Run > 0 {
		fmt.Fprintf(a.Out, "When the earlier step is fixed: koinos sequence run --from-run %d\n", l.Run)
	} else if l.Held > 0 {
		fmt.Fprintf(a.Out, "Held orders go in when their warnings are accepted: koinos load accept %d CODE\n", l.ID)
	}
	if l.DryRun && l.Ready+l.Differs > 0 {
		fmt.Fprintf(a.Out, "Nothing was stored. To load: the same command without --dry-run.\n")
	}
	if l.Loaded > 0 {
		fmt.Fprintf(a.Out, "The orders: koinos order list --load %d\n", l.ID)
	}
	fmt.Fprintf(a.Out, "In the console: %s/loads/%d\n", a.Address, l.ID)
}

// JoinExit is the error of a command that follows a load: its own, or the code of how the load ended.
func JoinExit(err error, l *outcome.Load) error {
	switch {
	case err != nil:
		return err
	case l.Clean() || !l.Status.Ended():
		return nil
	case l.Status == outcome.Failed:
		return Exit(ExitBad, "")
	case l.Status == outcome.Done:
		return Exit(ExitRefused, "")
	}
	return Exit(ExitStopped, "")
}

// IgnoreRefused returns nil for refused orders: looking at a load is not a failure, whatever became of it.
func IgnoreRefused(err error) error {
	var e *ending
	if errors.As(err, &e) && e.Error() == "" {
		return nil
	}
	return err
}
