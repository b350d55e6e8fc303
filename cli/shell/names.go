package shell

import (
	"fmt"

	"github.com/spf13/cobra"

	"koinos/client"
	"koinos/core/report"
)

// Names are the commands that say what uses something, and rename and remove it.
func (a *App) Names(noun client.Noun, example string) []*cobra.Command {
	uses := &cobra.Command{
		Use: "uses NAME", Short: "Show what uses a " + string(noun),
		Example: fmt.Sprintf("  koinos %s uses %s", noun, example), Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.Client().Uses(c.Context(), noun, args[0])
			if err != nil {
				return err
			}
			if done, err := a.JSON(all); done {
				return err
			}
			if len(all) == 0 {
				fmt.Fprintf(a.Out, "Nothing uses the %s %s.\n", noun, args[0])
				return nil
			}
			var rows [][]string
			for _, u := range all {
				rows = append(rows, []string{u.Kind, u.Name})
			}
			report.Table(a.Out, []string{"kind", "name"}, rows)
			return nil
		},
	}
	rename := &cobra.Command{
		Use: "rename NAME NEW", Short: "Rename a " + string(noun) + ", here and in all that uses it",
		Long: fmt.Sprintf("Rename gives a %s another name. Whatever uses it names it by the new name afterwards, as a "+
			"new version\nof its text in which only the name is another. Files on your own disk stay as they are: change the "+
			"name\nthere too before you keep them again.", noun),
		Example: fmt.Sprintf("  koinos %s rename %s %s-2026", noun, example, example), Args: cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			done, err := a.Client().Rename(c.Context(), noun, args[0], args[1])
			if err != nil {
				return err
			}
			if shown, err := a.JSON(done); shown {
				return err
			}
			fmt.Fprintf(a.Out, "The %s %s is called %s now.\n", noun, args[0], done.Name)
			for _, u := range done.Changed {
				fmt.Fprintf(a.Out, "  The %s %s names it so.\n", u.Kind, u.Name)
			}
			return nil
		},
	}
	remove := &cobra.Command{
		Use: "remove NAME", Short: "Remove a " + string(noun) + " that nothing uses",
		Example: fmt.Sprintf("  koinos %s remove %s", noun, example), Args: cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			all, err := a.Client().Uses(c.Context(), noun, args[0])
			if err != nil {
				return err
			}
			if err := a.Client().Remove(c.Context(), noun, args[0]); err != nil {
				return err
			}
			if done, err := a.JSON(map[string]string{"removed": args[0]}); done {
				return err
			}
			fmt.Fprintf(a.Out, "The %s %s is removed. What was loaded with it stays.\n", noun, args[0])
			for _, u := range all { // nothing else is left that uses it
				fmt.Fprintf(a.Out, "From now on the field %s of orders is not looked up in a list.\n", u.Name)
			}
			return nil
		},
	}
	return []*cobra.Command{uses, rename, remove}
}
