package x12

import (
	"bytes"
	"fmt"
	"strings"
	"time"
)

// Renumber returns an interchange under another control number, as one that is made at another moment: ISA09, ISA10,
// ISA13, IEA02, and of each functional group GS04, GS05, GS06 and GE02. Group gives the new number of a group that has
// had another. Everything else stays byte for byte.
func Renumber(interchange []byte, control int64, group func(was string) (int64, error), at time.Time) ([]byte, error) {
	const isa = 106 // ISA is of fixed width, its terminator included
	if len(interchange) < isa || !bytes.HasPrefix(interchange, []byte("ISA")) {
		return nil, fmt.Errorf("an interchange begins with ISA")
	}
	between, end := string(interchange[3:4]), string(interchange[isa-1:isa])
	var out strings.Builder
	was := ""
	for rest := string(interchange); rest != ""; {
		segment, behind, whole := strings.Cut(rest, end)
		rest = behind
		text := strings.TrimLeft(segment, "\r\n")
		ends := segment[:len(segment)-len(text)] // of lines
		elements := strings.Split(text, between)
		set := func(n int, value string) {
			if n < len(elements) {
				elements[n] = value
			}
		}
		moment := func(n int, layout string) { // in as many digits as it had
			if n < len(elements) && len(elements[n]) <= len(layout) {
				value := at.Format(layout)
				if layout == "20060102" {
					value = value[len(value)-len(elements[n]):]
				}
				elements[n] = value[:len(elements[n])]
			}
		}
		switch elements[0] {
		case "ISA":
			moment(9, "20060102")
			moment(10, "15040500")
			set(13, fmt.Sprintf("%09d", control))
		case "IEA":
			set(2, fmt.Sprintf("%09d", control))
		case "GS":
			if len(elements) > 6 {
				was = elements[6]
			}
			next, err := group(was)
			if err != nil {
				return nil, err
			}
			moment(4, "20060102")
			moment(5, "15040500")
			was = fmt.Sprint(next)
			set(6, was)
		case "GE":
			set(2, was)
		}
		out.WriteString(ends + strings.Join(elements, between))
		if whole {
			out.WriteString(end)
		}
	}
	return []byte(out.String()), nil
}
