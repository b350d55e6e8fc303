package running

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"koinos/cli/shell"
	"koinos/core/grammar"
)

// configFile is the name of the file of settings in the data folder.
const configFile = "koinos.yaml"

// setting is an option of a command with its value, and where that comes from.
type setting struct {
	*pflag.Flag
	from string // flag, $KOINOS_NAME, a file, or default
}

// settings gives every option of a command its value: from the command line, otherwise from the environment, otherwise
// from a file, otherwise the default. A file that is named must exist; one in the data folder may.
func settings(c *cobra.Command, file, data string) (all []setting, err error) {
	named := file != ""
	if !named {
		file = filepath.Join(data, configFile)
	}
	said, err := readConfig(file)
	if err != nil && (named || !errors.Is(err, fs.ErrNotExist)) {
		return nil, err
	}
	c.LocalNonPersistentFlags().VisitAll(func(f *pflag.Flag) {
		if f.Name == "help" || f.Name == "config" || f.Name == "show-config" || err != nil &&
			!errors.Is(err, fs.ErrNotExist) {
			return
		}
		s := setting{f, "default"}
		variable := "KOINOS_" + strings.ToUpper(strings.ReplaceAll(f.Name, "-", "_"))
		value, there := os.LookupEnv(variable)
		node := said[f.Name]
		delete(said, f.Name)
		switch {
		case f.Changed:
			s.from = "flag"
		case there && value != "":
			s.from = "$" + variable
			err = set(f, strings.Split(value, ","), s.from)
		case node != nil:
			s.from = file
			var values []string
			for _, n := range node.nodes {
				values = append(values, n.Text)
			}
			err = set(f, values, fmt.Sprintf("%s, line %d", file, node.line))
		}
		all = append(all, s)
	})
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	for name, node := range said {
		return nil, shell.Usage(fmt.Errorf("%s, line %d: there is no setting %q; koinos serve --show-config lists them", file,
			node.line, name))
	}
	return all, nil
}

// set sets an option; one that takes several values gets them all.
func set(f *pflag.Flag, values []string, from string) error {
	list, several := f.Value.(pflag.SliceValue)
	if !several {
		values = []string{strings.Join(values, ",")}
	}
	var err error
	if several {
		err = list.Replace(values)
	} else {
		err = f.Value.Set(values[0])
	}
	if err != nil {
		return shell.Usage(fmt.Errorf("%s: %s is %s, not %q", from, f.Name,
			map[string]string{"bool": "true or false", "int": "a whole number",
				"int64": "a whole number"}[f.Value.Type()], strings.Join(values, ",")))
	}
	return nil
}

// said is what a file says about a setting.
type said struct {
	line  int
	nodes []*grammar.Node
}

// readConfig reads a file of settings.
func readConfig(file string) (map[string]*said, error) {
	b, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	all := map[string]*said{}
	if strings.TrimSpace(string(b)) == "" {
		return all, nil
	}
	root, bad := grammar.Read(b, "file of settings", "listen, or another setting")
	if bad != nil {
		return nil, fmt.Errorf("%s, line %d: %s", file, bad.Place.Row, bad.Message)
	}
	for _, e := range root.Entries {
		nodes := root.List(e.Key)
		if all[e.Key] != nil || slices.ContainsFunc(nodes, func(n *grammar.Node) bool { return !n.Scalar }) ||
			len(nodes) == 0 {
			return nil, shell.Usage(fmt.Errorf("%s, line %d: %s is one value, or a list of values, once", file, e.At.Row,
				e.Key))
		}
		all[e.Key] = &said{e.At.Row, nodes}
	}
	if len(root.Entries) == 0 {
		return nil, shell.Usage(fmt.Errorf("%s: a file of settings has a line for each, such as listen: 127.0.0.1:9000",
			file))
	}
	return all, nil
}

// showSettings prints settings in the form of a settings file.
func (a *app) showSettings(all []setting) {
	for _, s := range all {
		value := yamlText(s.Value.String())
		if list, several := s.Value.(pflag.SliceValue); several {
			texts := list.GetSlice()
			for i := range texts {
				texts[i] = yamlText(texts[i])
			}
			value = "[" + strings.Join(texts, ", ") + "]"
		}
		fmt.Fprintf(a.Out, "%-40s # %s\n", s.Name+": "+value, s.from)
	}
}

// yamlText is a text in the form of YAML on one line.
func yamlText(s string) string {
	if s == "" || strings.ContainsAny(s, " #\"'\\[]{},&*!|>%@`\n\t") || strings.HasSuffix(s, ":") {
		return fmt.Sprintf("%q", s)
	}
	return s
}
