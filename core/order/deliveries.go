package order

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// ScheduledDelivery is a part of a line that goes to a place of its own, or on a day of its own.
type ScheduledDelivery struct {
	Quantity            Number `json:"quantity" doc:"How much of the line"`
	Unit                string `json:"unit,omitempty" doc:"Unit of the quantity, where it is not the line's"`
	Location            string `json:"location,omitempty" doc:"Code of the place that it goes to"`
	RequestedShipOn     Date   `json:"requested_ship_on,omitempty"`
	RequestedDeliveryOn Date   `json:"requested_delivery_on,omitempty"`
}

// Schedule is the deliveries of a line. As text it reads "12 to 0040; 8 CA to 0041, leaves 2026-03-12, arrives
// 2026-03-16": for each delivery the quantity, its unit if it differs from the line's, and what else is known. A
// location that could be read as another word stands in quotation marks.
type Schedule []ScheduledDelivery

// what stands before the parts of a delivery in text
const (
	wordTo      = " to "
	wordLeaves  = ", leaves "
	wordArrives = ", arrives "
)

// String writes the schedule as ParseSchedule reads it.
func (s Schedule) String() string {
	if len(s) == 0 {
		return ""
	}
	var b strings.Builder
	for i := range s {
		d := &s[i]
		if i > 0 {
			b.WriteString("; ")
		}
		b.WriteString(d.Quantity.plain())
		if d.Unit != "" {
			b.WriteString(" " + d.Unit)
		}
		if d.Location != "" {
			location := d.Location
			if strings.ContainsAny(location, `;,"`) {
				location = strconv.Quote(location)
			}
			b.WriteString(wordTo + location)
		}
		if d.RequestedShipOn != "" {
			b.WriteString(wordLeaves + string(d.RequestedShipOn))
		}
		if d.RequestedDeliveryOn != "" {
			b.WriteString(wordArrives + string(d.RequestedDeliveryOn))
		}
	}
	return b.String()
}

// ParseSchedule reads deliveries as Schedule.String writes them. Blank text means no deliveries.
func ParseSchedule(text string) (Schedule, error) {
	rest := strings.TrimSpace(text)
	var s Schedule
	for rest != "" {
		d, behind, err := parseDelivery(rest)
		if err != nil {
			return nil, fmt.Errorf("delivery %d: %w", len(s)+1, err)
		}
		s, rest = append(s, d), strings.TrimSpace(behind)
	}
	return s, nil
}

// parseDelivery reads the first delivery of a text, and returns the text behind it.
func parseDelivery(text string) (d ScheduledDelivery, rest string, err error) {
	what := func(end string) string { // up to a word, or to the end of the delivery
		at := strings.IndexAny(text, ";,")
		if at < 0 {
			at = len(text)
		}
		if i := strings.Index(text, end); end != "" && i >= 0 {
			at = min(at, i)
		}
		found := strings.TrimSpace(text[:at])
		text = text[at:]
		return found
	}
	quantity, unit, _ := strings.Cut(what(wordTo), " ")
	if d.Quantity, err = ParseNumber(quantity); err != nil {
		return d, "", fmt.Errorf("%q is not a quantity", quantity)
	}
	if d.Unit = strings.TrimSpace(unit); d.Unit == "to" || strings.ContainsAny(d.Unit, " \t\n") {
		return d, "", fmt.Errorf("%q is not a unit", d.Unit)
	}
	if after, ok := strings.CutPrefix(text, wordTo); ok {
		text = strings.TrimLeft(after, " ")
		if quoted, err := strconv.QuotedPrefix(text); err == nil && text[0] == '"' {
			inside, _ := strconv.Unquote(quoted) // QuotedPrefix has read it
			d.Location = strings.TrimSpace(inside)
			text = strings.TrimLeft(text[len(quoted):], " ")
		} else {
			d.Location = what("")
		}
		if d.Location == "" {
			return d, "", errors.New("no location stands behind \"to\"")
		}
	}
	for _, day := range []struct {
		word string
		is   *Date
	}{{wordLeaves, &d.RequestedShipOn}, {wordArrives, &d.RequestedDeliveryOn}} {
		after, ok := strings.CutPrefix(text, day.word)
		if !ok {
			continue
		}
		text = after
		*day.is = Date(what(""))
		if _, err := time.Parse(time.DateOnly, string(*day.is)); err != nil {
			return d, "", fmt.Errorf("%q is not a day; write it as yyyy-mm-dd", *day.is)
		}
	}
	if text == "" {
		return d, "", nil
	}
	if rest, ok := strings.CutPrefix(text, ";"); ok {
		return d, rest, nil
	}
	return d, "", fmt.Errorf("%q cannot be understood", text)
}

// Quantity is the sum of the deliveries. ok is false if a delivery's unit cannot be converted into the line's, or if
// the sum has too many digits.
func (s Schedule) Quantity() (sum Number, ok bool) {
	for i := range s {
		var err error
		if sum, err = sum.Add(s[i].Quantity); err != nil || s[i].Unit != "" {
			return sum, false
		}
	}
	return sum, true
}

func lastDelivery(l *Line) *ScheduledDelivery { return &l.Deliveries[len(l.Deliveries)-1] }

// deliveryFields are the fields of one delivery. Each binding fills the delivery that was added last.
var deliveryFields = []Field{
	{Name: "quantity", Level: Deliveries, Type: Decimal, Must: true, About: "How much of the line goes there, or then",
		num: func(_ *Order, l *Line) *Number { return &lastDelivery(l).Quantity }},
	{Name: "unit", Level: Deliveries, Type: Unit, About: "Unit of the quantity; by default the line's",
		text: func(_ *Order, l *Line) *string { return &lastDelivery(l).Unit }},
	{Name: "location", Level: Deliveries, Type: Code, About: "Code of the place that it goes to",
		text: func(_ *Order, l *Line) *string { return &lastDelivery(l).Location }},
	{Name: "requested_ship_on", Level: Deliveries, Type: Day, About: "Day on which it should leave",
		date: func(_ *Order, l *Line) *Date { return &lastDelivery(l).RequestedShipOn }},
	{Name: "requested_delivery_on", Level: Deliveries, Type: Day, About: "Day on which it should arrive",
		date: func(_ *Order, l *Line) *Date { return &lastDelivery(l).RequestedDeliveryOn }},
}

// EachOf calls yield with every value of delivery i of the line, by the names of the fields of a delivery.
func (l *Line) EachOf(i int, yield func(field, value string)) {
	one := Line{Deliveries: l.Deliveries[i : i+1]}
	for k := range deliveryFields {
		if v := deliveryFields[k].Value(nil, &one); v != "" {
			yield(deliveryFields[k].Name, v)
		}
	}
}

// SettleDeliveries makes a single delivery of the whole line part of the line itself, if the line's fields are the same
// or blank and may all be filled in this way. It returns the fields that it filled.
func (l *Line) SettleDeliveries(may func(field string) bool) (filled []string) {
	if len(l.Deliveries) != 1 || l.Deliveries[0].Unit != "" || l.Deliveries[0].Quantity.Cmp(l.Quantity) != 0 {
		return nil
	}
	d := &l.Deliveries[0]
	facts := []struct {
		field    string
		is, line *string
	}{
		{"requested_delivery_on", (*string)(&d.RequestedDeliveryOn), (*string)(&l.RequestedDeliveryOn)},
		{"requested_ship_on", (*string)(&d.RequestedShipOn), (*string)(&l.RequestedShipOn)},
		{"location", &d.Location, &l.Location},
	}
	for _, f := range facts {
		if *f.is != "" && (*f.line != "" && *f.is != *f.line || !may(f.field)) {
			return nil
		}
	}
	for _, f := range facts {
		if *f.is != "" && *f.line == "" {
			*f.line = *f.is
			filled = append(filled, f.field)
		}
	}
	l.Deliveries = nil
	return filled
}

// SettleDelivery removes the unit of the delivery that was added last if it is the line's, and removes the delivery if
// it says nothing.
func (l *Line) SettleDelivery() {
	d := lastDelivery(l)
	if d.Unit == l.Unit {
		d.Unit = ""
	}
	if *d == (ScheduledDelivery{}) {
		l.Deliveries = l.Deliveries[:len(l.Deliveries)-1]
	}
}
