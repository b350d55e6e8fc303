package order

import "strconv"

// NumberLines numbers the lines that have no number. Each gets its position, counted from 1, or the next free number if
// another line has that one.
func NumberLines(lines []Line) {
	taken := map[string]bool{}
	for i := range lines {
		if lines[i].Number != "" {
			taken[lines[i].Number] = true
		}
	}
	for i, next := 0, 1; i < len(lines); i++ {
		if lines[i].Number != "" {
			continue
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
