// Command score prints how good drafted mappings are for the documents of the
// corpus. With names of samples it prints their drafts too.
package main

import (
	"fmt"
	"os"
	"slices"
	"strings"

	"koinos/core/drafting/corpus"
)

func main() {
	groups, ranges, fields, right, sureWrong := 0, 0, 0, 0, 0
	samples := corpus.Samples()
	for _, s := range samples {
		score, err := corpus.Draft(s)
		if err != nil {
			fmt.Println(err)
		}
		mark := func(ok bool) string {
			if ok {
				return "right"
			}
			return "WRONG"
		}
		fmt.Printf("%-24s grouping %s  range %s  bindings %2d of %2d\n", s.Name, mark(score.Grouping),
			mark(score.Range), score.Right, score.Fields)
		for _, w := range score.Wrong {
			fmt.Println("    " + w)
		}
		if name, _, _ := strings.Cut(s.Name, "."); slices.Contains(os.Args[1:], name) {
			fmt.Println(score.Text)
			os.Stdout.Write(s.Bytes[:min(len(s.Bytes), 800)])
		}
		if score.Grouping {
			groups++
		}
		if score.Range {
			ranges++
		}
		fields, right, sureWrong = fields+score.Fields, right+score.Right, sureWrong+score.SureWrong
	}
	n := len(samples)
	fmt.Printf("\n%d documents: grouping right in %.1f %%, range in %.1f %%, bindings right in %.1f %% of %d fields, "+
		"%d wrong bindings marked sure\n",
		n, 100*float64(groups)/float64(n), 100*float64(ranges)/float64(n), 100*float64(right)/float64(fields), fields,
		sureWrong)
	strangers()
}

// strangers prints how the documents of others are drafted, by kind of layout.
func strangers() {
	all, err := corpus.Strangers()
	if err != nil {
		fmt.Println(err)
	}
	type sum struct{ documents, grouped, fields, right int }
	sums, kinds := map[string]*sum{}, []string{}
	fmt.Println("\nDocuments of others")
	for _, s := range all {
		if sums[s.Kind] == nil {
			sums[s.Kind] = &sum{}
			kinds = append(kinds, s.Kind)
		}
		k := sums[s.Kind]
		k.documents++
		if s.Grouping {
			k.grouped++
		}
		k.fields, k.right = k.fields+s.Fields, k.right+s.Right
		for _, w := range s.Wrong {
			fmt.Printf("    %s: %s\n", s.Name, w)
		}
		if slices.Contains(os.Args[1:], s.Name) {
			fmt.Println(s.Text)
		}
	}
	slices.Sort(kinds)
	for _, kind := range kinds {
		k := sums[kind]
		fmt.Printf("%-14s read right %2d of %2d, bindings right %3d of %3d\n", kind, k.grouped, k.documents, k.right,
			k.fields)
	}
}
