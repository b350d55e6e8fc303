package book

import "koinos/core/order"

// account is what is billed of each line and charge of an order. Without it, an invoice of thousands of lines would
// look through all of them for each.
type account struct {
	lines   map[int][]order.InvoiceLine // of earlier invoices and credit notes
	charges map[charging]order.Number
	own     map[int][]int // positions among the lines of this invoice
}

// charging identifies a charge of the order, or of a line.
type charging struct {
	allowance bool
	code      string
	line      int
}

func chargingOf(c order.Charge, line int) charging { return charging{c.Allowance, c.Code, line} }

// account returns the account of the order, which is made when it is first asked for.
func (b *billing) account() *account {
	if b.billed == nil {
		b.billed = &account{map[int][]order.InvoiceLine{}, map[charging]order.Number{}, map[int][]int{}}
		for i := range b.stored.Invoices {
			v := &b.stored.Invoices[i]
			for _, l := range v.Lines {
				b.billed.lines[l.Line] = append(b.billed.lines[l.Line], l)
			}
			add(b.billed.charges, v.Charges)
		}
	}
	return b.billed
}

// add adds charges to sums of them. One that cannot be added is left out.
func add(to map[charging]order.Number, charges []order.InvoiceCharge) {
	for _, c := range charges {
		key := chargingOf(c.Charge, c.Line)
		if sum, err := to[key].Add(c.Amount); err == nil {
			to[key] = sum
		}
	}
}

// bills adds a line to the invoice.
func (b *billing) bills(l order.InvoiceLine) {
	own := b.account().own
	own[l.Line] = append(own[l.Line], len(b.v.Lines))
	b.v.Lines = append(b.v.Lines, l)
}

// eachOf calls yield with all that is billed of a line, this invoice last.
func (b *billing) eachOf(line int, yield func(*order.InvoiceLine)) {
	a := b.account()
	for i := range a.lines[line] {
		yield(&a.lines[line][i])
	}
	for _, i := range a.own[line] {
		yield(&b.v.Lines[i])
	}
}

// goods is what this invoice bills of the goods, or of a line.
func (b *billing) goods(line int) (sum order.Number, err error) {
	if line == 0 {
		for i := range b.v.Lines {
			if err == nil {
				sum, err = sum.Add(b.v.Lines[i].Amount)
			}
		}
		return sum, err
	}
	for _, i := range b.account().own[line] {
		if err == nil {
			sum, err = sum.Add(b.v.Lines[i].Amount)
		}
	}
	return sum, err
}

// charged is what earlier invoices billed of a charge, less what credit notes gave back.
func (b *billing) charged(c order.Charge, line int) order.Number {
	return b.account().charges[chargingOf(c, line)]
}
