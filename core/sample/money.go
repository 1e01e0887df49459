package sample

import (
	"fmt"

	"lumtra/core/cut"
	"lumtra/core/price"
)

// Bill is what a way to send all of it asks of the target, and costs there.
type Bill struct {
	// Requests are those that write.
	Requests int64
	// Once and Monthly are amounts in the currency of the rates; 0 where those are not known.
	Once, Monthly float64
}

// listed is how many bytes the index takes for each member, as measured on a million of them.
const listed = 24

// Price works out what each way asks of a target that cuts what is large so, and costs by its rates, nil
// where those are not known; and what it would be without packs.
func (s *Sampling) Price(sizes cut.Sizes, rates *price.Rates) {
	s.Rates = rates
	s.Single = bill(s.Files, s.Bytes, rates) // each in one piece; large ones take more
	for i := range s.Trials {
		t := &s.Trials[i]
		size := t.Size + listed*s.Files
		requests := int64(1)
		if size > sizes.Whole {
			requests = sizes.Parts(size) + 2 // begun and joined
		}
		t.Bill = bill(requests, size, rates)
	}
}

// Money is a bill in words.
func (s *Sampling) Money(b Bill) string {
	if s.Rates == nil {
		return ""
	}
	return fmt.Sprintf("%.4g %s once, %.4g a month", b.Once, s.Rates.Currency, b.Monthly)
}

func bill(requests, stored int64, rates *price.Rates) Bill {
	b := Bill{Requests: requests}
	if rates == nil {
		return b
	}
	for _, c := range rates.Costs("", price.Use{Requests: price.Requests{Writes: requests}, Stored: stored}) {
		if c.Monthly {
			b.Monthly += c.Amount
		} else {
			b.Once += c.Amount
		}
	}
	return b
}
