package systems

import (
	"github.com/spf13/cobra"

	"koinos/cli/shell"
)

// app is what each of the commands needs.
type app struct{ *shell.App }

// Commands are the commands, in the order in which the help lists them.
func Commands(s *shell.App) []*cobra.Command {
	a := &app{s}
	return []*cobra.Command{a.systems(), a.syncs()}
}
