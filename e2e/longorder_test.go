package e2e

import (
	"fmt"
	"testing"

	"github.com/chromedp/chromedp"
	"github.com/chromedp/chromedp/kb"

	"koinos/core/order"
	"koinos/core/outcome"
)

// Of a long order, a part of the lines is shown at once; one goes to any of them by its number, on the paper and in the
// forms, and what is typed counts for all parts.
func TestConsoleLong(t *testing.T) {
	t.Parallel()
	s := start(t, t.TempDir(), "serve")
	o := order.Order{Kind: order.Sales, Partner: "PELLOW", SenderNumber: "LONG-1", Currency: "EUR"}
	for n := range 450 {
		o.Lines = append(o.Lines, order.Line{Item: fmt.Sprintf("I%d", n+1), Quantity: order.NumberOf(int64(n%9 + 1)),
			UnitPrice: order.MustNumber("2.50")})
	}
	p, err := s.api().PostOrder(t.Context(), &o, outcome.Skip)
	if err != nil {
		t.Fatal(err)
	}
	const goTo = `input[aria-label="Go to a line by its number"]`
	to := func(within, line string) chromedp.Action {
		return chromedp.Tasks{fill(within+" "+goTo, line), chromedp.SendKeys(within+" "+goTo, kb.Enter, chromedp.ByQuery)}
	}
	run(t, browser(t, 1280, 800), chromedp.Navigate(fmt.Sprintf("%s/orders/%d", s.address, p.OrderID)),
		has(".paper", "lines 1 to 200 of 450"), has(`.paper [data-line="200"]`, "I200"), hasNot(".paper", "I201"),
		to(".paper", "431"), has(".paper", "lines 401 to 450 of 450"), has(`.paper [data-line="431"]`, "I431 8 2.50 20.00"),
		hasNot(".paper", "I200"), to(".paper", "451"), has(".paper", "There is no line 451."),
		press("Ship …"), has(".acts", "lines 1 to 200 of 450"), to(".acts", "431"),
		fill(`input[aria-label="Quantity of line 431"]`, "3"), press("Record the shipment"),
		has(`.paper [data-line="431"]`, "shipped 3"), has(`.paper [data-line="432"]`, "shipped 9"),
		has(".events", "and 438 more lines"),
		to(".paper", "1"), has(`.paper [data-line="1"]`, "shipped 1"))
}
