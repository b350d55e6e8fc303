package store

import (
	"flag"
	"fmt"
	"os"
	"strings"
	"testing"
)

var update = flag.Bool("update", false, "write what the tests compare with anew")

// docs/data-model.md shows the tables as they are, with the columns by which
// they point at each other.
func TestDataModel(t *testing.T) {
	s := open(t, t.TempDir())
	var tables []string
	if err := s.r.SelectContext(ctx, &tables,
		`SELECT name FROM sqlite_master WHERE type = 'table' AND name NOT LIKE 'sqlite_%' AND name NOT LIKE 'goose_%'
			ORDER BY name`); err != nil {
		t.Fatal(err)
	}
	var picture, columns strings.Builder
	picture.WriteString("```mermaid\nerDiagram\n")
	for _, table := range tables {
		var keys []struct {
			Table string `db:"table"`
			From  string `db:"from"`
			Seq   int    `db:"seq"`
		}
		if err := s.r.SelectContext(ctx, &keys,
			`SELECT "table", "from", seq FROM pragma_foreign_key_list(?) ORDER BY "table", id, seq`,
			table); err != nil {
			t.Fatal(err)
		}
		for _, k := range keys {
			if k.Seq == 0 {
				fmt.Fprintf(&picture, "  %s ||--o{ %s : %s\n", k.Table, table, k.From)
			}
		}
		var fields []struct {
			Name string `db:"name"`
			Type string `db:"type"`
			Key  int    `db:"pk"`
		}
		if err := s.r.SelectContext(ctx, &fields, `SELECT name, type, pk FROM pragma_table_info(?) ORDER BY cid`,
			table); err != nil {
			t.Fatal(err)
		}
		fmt.Fprintf(&columns, "  %s {\n", table)
		for _, f := range fields {
			key := ""
			if f.Key > 0 {
				key = " PK"
			}
			fmt.Fprintf(&columns, "    %s %s%s\n", strings.ToLower(f.Type), f.Name, key)
		}
		columns.WriteString("  }\n")
	}
	want := picture.String() + columns.String() + "```\n"
	const file = "../docs/data-model.md"
	have, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	before, rest, ok := strings.Cut(string(have), "```mermaid\n")
	_, after, ended := strings.Cut(rest, "```\n")
	if !ok || !ended {
		t.Fatalf("%s has no picture", file)
	}
	if *update {
		if err := os.WriteFile(file, []byte(before+want+after), 0o644); err != nil {
			t.Fatal(err)
		}
		return
	}
	if string(have) != before+want+after {
		t.Errorf("%s does not show the tables as they are; write it with make generate", file)
	}
	for _, table := range tables {
		if !strings.Contains(before+after, "`"+table+"`") {
			t.Errorf("%s does not say what %s is for", file, table)
		}
	}
}
