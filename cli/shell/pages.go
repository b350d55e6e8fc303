package shell

import (
	"errors"
	"net/url"
	"strconv"

	"github.com/spf13/cobra"

	"koinos/api"
)

// mostOnPage is how many rows the service returns at a time.
const mostOnPage = 1000

// Pages asks for a number of rows of a list, page by page if they do not fit on one.
func Pages[T any](limit int, q url.Values, ask func(url.Values) (api.Page[T], error)) (all api.Page[T], err error) {
	if limit < 1 {
		return all, Usage(errors.New("--limit is 1 or more"))
	}
	for limit > 0 {
		q.Set("limit", strconv.Itoa(min(limit, mostOnPage)))
		page, err := ask(q)
		if err != nil {
			return all, err
		}
		all.Items, all.Next = append(all.Items, page.Items...), page.Next
		if limit -= len(page.Items); page.Next == "" || len(page.Items) == 0 {
			break
		}
		q.Set("cursor", page.Next)
	}
	if all.Items == nil {
		all.Items = []T{}
	}
	return all, nil
}

// Offers lets the shell complete a flag's value.
func Offers(c *cobra.Command, flag string, words ...string) {
	// the flag is there
	_ = c.RegisterFlagCompletionFunc(flag, cobra.FixedCompletions(words, cobra.ShellCompDirectiveNoFileComp))
}

// OffersNames is offers with names that the service knows.
func (a *App) OffersNames(c *cobra.Command, flag string, names func(*cobra.Command) ([]string, error)) {
	_ = c.RegisterFlagCompletionFunc(flag, func(c *cobra.Command, _ []string, _ string) ([]string,
		cobra.ShellCompDirective) {
		all, err := names(c)
		if err != nil {
			return nil, cobra.ShellCompDirectiveDefault // no service answers: files may be meant
		}
		return all, cobra.ShellCompDirectiveDefault
	})
}

// MappingNames are the names of the mappings that the service has.
func (a *App) MappingNames(c *cobra.Command) (names []string, err error) {
	all, err := a.Client().Mappings(c.Context())
	for _, m := range all {
		names = append(names, m.Name)
	}
	return names, err
}
