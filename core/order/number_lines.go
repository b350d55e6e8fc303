package order

import "strconv"

// NumberLines numbers the lines that have no number. Each gets its position, counted from 1, or the next free number if
// another line has that one.
func NumberLines(lines []Line) {
	var taken map[string]bool // what the others have, as soon as one has none
	for i, next := 0, 1; i < len(lines); i++ {
		if lines[i].Number != "" {
			continue
		}
		if taken == nil {
			taken = map[string]bool{}
			for k := range lines {
				if lines[k].Number != "" {
					taken[lines[k].Number] = true
				}
			}
		}
		number := strconv.Itoa(i + 1)
		if len(taken) > 0 {
			for ; taken[number]; next++ {
				number = strconv.Itoa(len(lines) + next)
			}
			taken[number] = true
		}
		lines[i].Number = number
	}
}
