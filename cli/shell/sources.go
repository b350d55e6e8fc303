package shell

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"koinos/api"
	"koinos/core/finding"
	"koinos/core/list"
	"koinos/core/listfile"
	"koinos/core/mapping"
	"koinos/core/reading"
	"koinos/core/report"
)

// OpenLocal opens a file of this machine for reading.
func OpenLocal(name string) (*os.File, int64, error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, 0, Exit(ExitBad, fmt.Sprintf("%s cannot be read: %v", name, errors.Unwrap(err)))
	}
	info, err := f.Stat()
	if err == nil && info.IsDir() {
		err = Exit(ExitBad, name+" is a folder")
	}
	if err != nil {
		f.Close()
		return nil, 0, err
	}
	return f, info.Size(), nil
}

// LooksLikeFile reports whether a name is that of a mapping's file.
func LooksLikeFile(name string) bool {
	ext := strings.ToLower(filepath.Ext(name))
	return ext == ".yaml" || ext == ".yml" || strings.ContainsRune(name, filepath.Separator)
}

// Numbered returns the orders with a number, or otherwise those whose senders gave it. A sales and a purchase order may
// share a number that was given by hand, and so may orders of several senders.
func (a *App) Numbered(ctx context.Context, number string) ([]api.OrderSummary, error) {
	page, err := a.Client().Orders(ctx, url.Values{"number": {number}, "limit": {"5"}})
	if err != nil || len(page.Items) > 0 {
		return page.Items, err
	}
	page, err = a.Client().Orders(ctx, url.Values{"sender_number": {number}, "limit": {"1000"}})
	if err != nil {
		return nil, err
	}
	if len(page.Items) == 0 {
		return nil, Exit(ExitFailed, fmt.Sprintf("no order has the number %q, neither ours nor its sender's; "+
			"koinos order list --text %s looks for a beginning", number, number))
	}
	return page.Items, nil
}

// CheckEach checks files, prints the mistakes of each, and describes a correct one in a sentence.
func (a *App) CheckEach(names []string, check func([]byte) (string, error)) error {
	type checked struct {
		File     string      `json:"file"`
		About    string      `json:"about,omitempty"`
		Findings finding.All `json:"findings"`
	}
	bad, all := false, []checked{}
	for _, name := range names {
		text, err := os.ReadFile(name)
		if err != nil {
			return Unreadable(name, err)
		}
		says, err := check(text)
		if err != nil {
			bad = true
			all = append(all, checked{File: name, Findings: finding.Of(err)})
			if a.Output != "json" {
				a.Mistakes(name, finding.Of(err))
			}
			continue
		}
		all = append(all, checked{name, says, finding.All{}})
		if a.Output != "json" {
			fmt.Fprintf(a.Out, "%s is sound: %s\n", name, says)
		}
	}
	if _, err := a.JSON(all); err != nil {
		return err
	}
	if bad {
		return Exit(ExitBad, "")
	}
	return nil
}

// mappingText returns the text of a mapping's file, or of one that the service has: NAME, or NAME@VERSION.
func (a *App) mappingText(ctx context.Context, arg string) (string, error) {
	if LooksLikeFile(arg) {
		text, err := os.ReadFile(arg)
		if err != nil {
			return "", Exit(ExitBad, fmt.Sprintf("the mapping %s cannot be read: %v", arg, errors.Unwrap(err)))
		}
		return string(text), nil
	}
	name, after, found := strings.Cut(arg, "@")
	version := 0
	if found {
		var err error
		if version, err = strconv.Atoi(after); err != nil || version < 1 {
			return "", Usage(fmt.Errorf("%q is no version; write %s@3", after, name))
		}
	}
	m, err := a.Client().Mapping(ctx, name, version)
	return m.Text, err
}

// MappingOf is the mapping that an argument names: a file, or one that the service has.
func (a *App) MappingOf(ctx context.Context, arg string) (*mapping.Mapping, error) {
	text, err := a.mappingText(ctx, arg)
	if err != nil {
		return nil, err
	}
	m, err := mapping.Parse([]byte(text))
	if err != nil {
		return nil, fmt.Errorf("%s: %w", arg, err)
	}
	return m, nil
}

// SetFor returns the lists that mappings use: those of a folder, or otherwise those of the service if one answers.
func (a *App) SetFor(ctx context.Context, dir string, mappings ...*mapping.Mapping) (*list.Set, error) {
	set, err := ReadLists(dir)
	if err != nil {
		return nil, err
	}
	calls := a.Client()
	for _, m := range mappings {
		for _, f := range m.Missing(set) {
			name := f.Value
			if dir != "" {
				return nil, fmt.Errorf("%w\nPoint --lists at a folder that has it", &f)
			}
			if entries, err := calls.AllEntries(ctx, name, false); err == nil {
				set.Lists[name] = list.New(entries)
			} else if entries, err := calls.AllEntries(ctx, name, true); err == nil {
				set.Crosswalks[name] = list.NewCrosswalk(listfile.Pairs(entries))
			} else {
				return nil, fmt.Errorf("%w\nPoint --lists at a folder that has it, or start the service that does", &f)
			}
		}
	}
	return set, nil
}

// ShowMisses says which values were not found in lists and crosswalks.
func (a *App) ShowMisses(all []reading.Miss) {
	var rows [][]string
	for _, m := range all {
		noun := "list"
		if m.Crosswalk {
			noun = "crosswalk"
		}
		rows = append(rows, []string{noun + " " + m.List, m.Value, Num(m.Count), m.Nearest})
	}
	report.Table(a.Out, []string{"asked", "value", ">times", "nearest"}, rows)
}

// ReadLists reads a folder of lists and crosswalks; a blank name means none.
func ReadLists(dir string) (*list.Set, error) {
	set := &list.Set{Lists: map[string]*list.List{}, Crosswalks: map[string]*list.Crosswalk{}}
	if dir == "" {
		return set, nil
	}
	for _, crosswalk := range []bool{false, true} {
		pattern := filepath.Join(dir, "*.*")
		if crosswalk {
			pattern = filepath.Join(dir, "crosswalks", "*.*")
		}
		files, err := filepath.Glob(pattern)
		if err != nil {
			return nil, err
		}
		for _, file := range files {
			name := strings.TrimSuffix(filepath.Base(file), filepath.Ext(file))
			f, size, err := OpenLocal(file)
			if err != nil {
				return nil, err
			}
			entries, err := listfile.Read(f, size, crosswalk)
			f.Close()
			if err != nil {
				return nil, fmt.Errorf("%s: %w", file, err)
			}
			if crosswalk {
				set.Crosswalks[name] = list.NewCrosswalk(listfile.Pairs(entries))
			} else {
				set.Lists[name] = list.New(entries)
			}
		}
	}
	return set, nil
}

// Unreadable says that a file cannot be read.
func Unreadable(name string, err error) error {
	var path *os.PathError
	if errors.As(err, &path) {
		err = path.Err
	}
	return Exit(ExitBad, fmt.Sprintf("%s cannot be read: %v", name, err))
}

// Mistakes prints what is wrong with a file, a line for each mistake.
func (a *App) Mistakes(name string, found []finding.Finding) {
	for _, f := range found {
		if f.Place.Row == 0 { // the text does not say where
			fmt.Fprintf(a.Err, "%s: %s\n", name, f.Message)
			continue
		}
		fmt.Fprintf(a.Err, "%s:%d:%d: %s", name, f.Place.Row, f.Place.Column, f.Message)
		if f.Hint != "" {
			fmt.Fprintf(a.Err, " %s", f.Hint)
		}
		fmt.Fprintln(a.Err)
	}
}
