package cli

import (
	"bytes"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/spf13/cobra"

	"koinos/cli/shell"
)

// lasting are commands that run until they are told to stop: of their examples only the words are looked at.
var lasting = []string{"koinos serve", "koinos demo", "koinos standin"}

// Every command has examples in its help, and each of them is understood: run where no service and no file is, it
// fails for that, or does its work, but never for how it is written.
func TestExamplesOfHelp(t *testing.T) {
	t.Chdir(t.TempDir())
	t.Setenv("KOINOS_ADDRESS", "http://127.0.0.1:1")
	t.Setenv("KOINOS_TOKEN", "")
	root := commands(&shell.App{In: strings.NewReader(""), Out: &bytes.Buffer{}, Err: &bytes.Buffer{}})
	count := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, sub := range c.Commands() {
			walk(sub)
		}
		if !c.Runnable() || c.Hidden || c.IsAdditionalHelpTopicCommand() || c.Name() == "help" || c == root {
			return
		}
		if strings.TrimSpace(c.Example) == "" && !c.HasSubCommands() { // those list what they have
			t.Errorf("%s has no example", c.CommandPath())
		}
		for line := range strings.SplitSeq(c.Example, "\n") {
			line = strings.TrimSpace(line)
			if line == "" {
				continue
			}
			count++
			words := shellWords(line)
			if len(words) == 0 || words[0] != "koinos" {
				t.Errorf("%s: %q does not begin with koinos", c.CommandPath(), line)
				continue
			}
			found, _, err := root.Find(words[1:])
			if err != nil || !strings.HasPrefix(found.CommandPath(), c.CommandPath()) {
				t.Errorf("%s: %q is an example of %s, %v", c.CommandPath(), line, found.CommandPath(), err)
				continue
			}
			if slices.Contains(lasting, found.CommandPath()) {
				rest := words[1+strings.Count(found.CommandPath(), " "):]
				if err := found.ParseFlags(rest); err != nil {
					t.Errorf("%s: %v", line, err)
				}
				continue
			}
			out := &bytes.Buffer{}
			ended := make(chan int, 1)
			go func() { ended <- Main(words[1:], strings.NewReader(""), out, out) }()
			select {
			case code := <-ended:
				if code == shell.ExitUsage {
					t.Errorf("%s: %s", line, out)
				}
			case <-time.After(20 * time.Second):
				t.Fatalf("%s does not end", line)
			}
		}
	}
	walk(root)
	if count < 100 {
		t.Errorf("only %d examples were run", count)
	}
}

// shellWords cuts a line of an example into words as a shell does, as far as its pipe or redirection.
func shellWords(line string) (words []string) {
	var word strings.Builder
	quote, any := rune(0), false
	end := func() {
		if any {
			words = append(words, word.String())
		}
		word.Reset()
		any = false
	}
	for _, r := range line {
		switch {
		case quote != 0 && r == quote:
			quote = 0
		case quote != 0:
			word.WriteRune(r)
		case r == '\'' || r == '"':
			quote, any = r, true
		case r == ' ':
			end()
		case (r == '|' || r == '>' || r == '<') && !any:
			return words
		default:
			word.WriteRune(r)
			any = true
		}
	}
	end()
	return words
}
