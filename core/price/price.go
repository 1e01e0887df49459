package price

// Requests counts what a store is asked.
type Requests struct{ Lists, Reads, Writes, Copies, Removes int64 }

// All is their sum.
func (r Requests) All() int64 { return r.Lists + r.Reads + r.Writes + r.Copies + r.Removes }

// Rates are a store's prices in its currency. Prices of requests are for a
// thousand, of bytes for a GB of 1e9.
type Rates struct {
	Currency string `toml:"-"`
	// Example marks made-up prices.
	Example   bool    `toml:"example"`
	Lists     float64 `toml:"lists"`
	Reads     float64 `toml:"reads"`
	Writes    float64 `toml:"writes"`
	Copies    float64 `toml:"copies"`
	Removes   float64 `toml:"deletes"`
	Egress    float64 `toml:"egress"`
	Retrieval float64 `toml:"retrieval"`
	// Storage is for a GB and month.
	Storage float64 `toml:"storage"`
}

// Cost is one line of a bill.
type Cost struct {
	Side, What string
	Count      float64 // thousands of requests, or GB
	Amount     float64
	Monthly    bool `json:",omitempty"`
}

// page is how many keys a listing or a removal request holds.
const page = 1000

// Pages is how many requests it takes to list or to remove n objects.
func Pages(n int64) int64 { return (n + page - 1) / page }

// Use is what a store is used for: requests, bytes that leave it, that are brought back from
// cold storage, and that it keeps from then on, which may be fewer than before.
type Use struct {
	Requests               Requests
	Out, Retrieved, Stored int64
}

// Costs are the lines of the bill of one side for a use. What costs nothing has none.
func (r *Rates) Costs(side string, u Use) []Cost {
	var all []Cost
	add := func(what string, count, price float64, monthly bool) {
		if count != 0 && price != 0 {
			all = append(all, Cost{Side: side, What: what, Count: count, Amount: count * price, Monthly: monthly})
		}
	}
	const thousand, gb = 1e3, 1e9
	add("listings", float64(u.Requests.Lists)/thousand, r.Lists, false)
	add("reads", float64(u.Requests.Reads)/thousand, r.Reads, false)
	add("writes", float64(u.Requests.Writes)/thousand, r.Writes, false)
	add("copies", float64(u.Requests.Copies)/thousand, r.Copies, false)
	add("deletions", float64(u.Requests.Removes)/thousand, r.Removes, false)
	add("GB out", float64(u.Out)/gb, r.Egress, false)
	add("GB retrieved from cold", float64(u.Retrieved)/gb, r.Retrieval, false)
	add("GB stored", float64(u.Stored)/gb, r.Storage, true)
	return all
}
