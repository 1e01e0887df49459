package plan

import (
	"cmp"
	"math"
	"slices"
	"time"

	"lumtra/core/pace"
	"lumtra/core/rule"
)

// Side is what an estimate knows of one of the two places.
type Side struct {
	Name string
	// Store tells that requests are made and paid for there; a folder has none.
	Store bool
	// Latency is the time of a small request, Up and Down are bytes a second
	// over one stream. Measured tells that an endpoint test found them; if not
	// they are assumed.
	Latency  time.Duration
	Up, Down float64
	Measured bool
	// Rates are its prices, nil when none are known.
	Rates *Rates
	// Objects is what a survey lists there.
	Objects int64
}

// What is assumed of a side that was never measured.
const (
	folderLatency = 100 * time.Microsecond
	folderRate    = 400e6
	storeLatency  = 30 * time.Millisecond
	storeRate     = 50e6
)

func (s Side) assumed() Side {
	latency, rate := storeLatency, storeRate
	if !s.Store {
		latency, rate = folderLatency, folderRate
	}
	s.Latency, s.Up, s.Down = cmp.Or(s.Latency, latency), cmp.Or(s.Up, rate), cmp.Or(s.Down, rate)
	return s
}

// Past is how an earlier estimate of the job turned out.
type Past struct {
	Began             time.Time
	Estimated, Actual time.Duration
}

// Work is how a plan will be run, as far as it bears on estimates.
type Work struct {
	// Streams are those it begins with, MostStreams those it may come to when it is left
	// to the run how many help; 0 for no more.
	Streams, MostStreams int

	PartSize int64
	// Inside tells that the service copies within itself.
	Inside bool
	Past   []Past
	// DigestRate is how many bytes a second one processor digests, of Processors;
	// 0 where there is no digest. DigestsAfter tells that the target takes the
	// digest of an object in parts by two requests of its own.
	DigestRate   float64
	Processors   int
	DigestsAfter bool
	// Hours are the limits of bandwidth by the hours of the week, counted from
	// From.
	Hours []*pace.Hours
	From  time.Time
}

// Estimate is what a run will take.
type Estimate struct {
	// Expect is the likely time, between Soon and Late.
	Expect, Soon, Late time.Duration
	// Calibrated is from how many earlier runs the range was learnt.
	Calibrated int
	// Assumed names the sides that were never measured.
	Assumed []string `json:",omitempty"`
	// Waiting is the share of the time that goes into requests rather than
	// bytes, between 0 and 1: near 1, many small objects hold the run back.
	Waiting float64
	// Digesting is the processors' time that digests take, 0 without any.
	Digesting      time.Duration `json:",omitempty"`
	Source, Target Requests
	// Costs are by side and kind, Total their sum once, Monthly what storage
	// will cost more or less a month. Currency is "" when nothing has a price.
	Costs          []Cost `json:",omitempty"`
	Total, Monthly float64
	Currency       string `json:",omitempty"`
	// Unpriced names the stores without rates, Example tells that some of the
	// rates are made up.
	Unpriced []string `json:",omitempty"`
	Example  bool     `json:",omitempty"`
	Past     []Past   `json:",omitempty"`
}

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
	Removes   float64 `toml:"removes"`
	Egress    float64 `toml:"egress"`
	Retrieval float64 `toml:"retrieval"`
	// Storage is for a GB and month.
	Storage float64 `toml:"storage"`
}

// Cost is one line of a bill.
type Cost struct {
	Side, What string
	Count      float64 // requests, or GB
	Amount     float64
	Monthly    bool `json:",omitempty"`
}

const page = 1000 // keys a listing or a removal request holds

func pages(n int64) int64 { return (n + page - 1) / page }

// Estimate works out what carrying out the plan takes. It measures nothing and
// asks nobody.
func (i *Info) Estimate(source, target Side, w Work) Estimate {
	est := Estimate{Past: w.Past}
	for _, s := range []*Side{&source, &target} {
		if !s.Measured && s.Store {
			est.Assumed = append(est.Assumed, s.Name)
		}
		*s = s.assumed()
	}
	est.requests(i, &source, &target, w)
	est.time(i, &source, &target, w)
	est.money(i, &source, &target, w)
	return est
}

func (est *Estimate) requests(i *Info, source, target *Side, w Work) {
	moves := func(from, to *Requests, sizes *Sizes) {
		for _, x := range sizes {
			if x.Count == 0 {
				continue
			}
			average := x.Bytes / x.Count
			switch {
			case w.Inside:
				to.Copies += x.Count
			case average > 2*w.PartSize:
				parts := x.Count * ((average + w.PartSize - 1) / w.PartSize)
				from.Reads += x.Count + parts
				to.Writes += 2*x.Count + parts
				if w.DigestsAfter && w.DigestRate > 0 {
					to.Reads, to.Writes = to.Reads+x.Count, to.Writes+x.Count
				}
			default:
				from.Reads += x.Count
				to.Writes += x.Count
			}
		}
	}
	moves(&est.Source, &est.Target, &i.Sizes)
	if n := i.Back.Count; n > 0 { // the other way round: as many, at the other side
		all := i.Totals[Add].Count + i.Totals[Change].Count
		share := float64(n) / float64(max(all, 1))
		reads, writes := int64(share*float64(est.Source.Reads)), int64(share*float64(est.Target.Writes))
		est.Source.Reads, est.Target.Reads = est.Source.Reads-reads, est.Target.Reads+reads
		est.Target.Writes, est.Source.Writes = est.Target.Writes-writes, est.Source.Writes+writes
	}
	est.Target.Copies += i.Asides.Count + i.Totals[Meta].Count
	est.Target.Removes += pages(max(i.Totals[Remove].Count-i.Asides.Count, 0)) + i.Asides.Count
	if n := i.Afterwards.Count; n > 0 { // each copy is looked at, then its source seen to
		est.Target.Reads += n
		switch i.Rules.Afterwards {
		case rule.RemoveSource:
			est.Source.Removes += n
		case rule.ArchiveSource:
			est.Source.Copies, est.Source.Removes = est.Source.Copies+n, est.Source.Removes+n
		case rule.TagSource:
			est.Source.Reads, est.Source.Writes = est.Source.Reads+2*n, est.Source.Writes+n
		}
	}
	est.Source.Reads += i.Compared
	est.Target.Reads += i.Compared
	for _, x := range []struct {
		side *Side
		r    *Requests
	}{{source, &est.Source}, {target, &est.Target}} {
		if !x.side.Store {
			*x.r = Requests{}
			continue
		}
		x.r.Lists += pages(max(x.side.Objects, 1))
	}
}

// time works with two bounds. The sooner has every stream move at the rate that
// one was measured at; the later has all share that rate.
func (est *Estimate) time(i *Info, source, target *Side, w Work) {
	streams := float64(max(w.Streams, 1))
	rate := min(source.Down, target.Up)
	wait := (source.Latency + target.Latency).Seconds()
	work := i.Totals.Work()
	bytes := float64(work.Bytes)
	requests := float64(work.Count) * wait
	if w.Inside {
		bytes, requests = 0, float64(work.Count)*target.Latency.Seconds()+bytes/1e9
	}
	for n := range i.Sizes { // each part waits too
		if x := i.Sizes[n]; x.Count > 0 && !w.Inside && x.Bytes/x.Count > 2*w.PartSize && w.PartSize > 0 {
			requests += float64(x.Bytes/w.PartSize) * wait
		}
	}
	var digesting float64
	if w.DigestRate > 0 {
		digesting = bytes / w.DigestRate
		est.Digesting = seconds(digesting)
	}
	const overhead = 60e-6 // of this machine's time an object
	soon := max(requests/max(streams, float64(w.MostStreams))+bytes/rate/streams, float64(work.Count)*overhead)
	soon = max(soon, digesting/float64(max(w.Processors, 1)))
	if work.Count > 0 { // none is done before it was asked for
		soon = max(soon, wait)
	}
	late := max(max(requests/streams, soon)+bytes/rate, digesting) + float64(work.Count)*2*overhead
	for _, h := range w.Hours {
		soon = max(soon, h.Through(w.From, bytes, rate*streams).Seconds())
		late += max(h.Through(w.From, bytes, rate).Seconds()-bytes/rate, 0)
	}
	expect := math.Sqrt(soon * late)
	if total := requests + bytes/rate; total > 0 {
		est.Waiting = requests / total
	}
	est.Expect, est.Soon, est.Late = seconds(expect), seconds(soon), seconds(late)
	est.calibrate(w.Past)
}

func seconds(s float64) time.Duration { return time.Duration(s * float64(time.Second)) }

// calibrate corrects by how earlier estimates turned out: by the middle of
// their ratios, with a range as wide as theirs.
func (est *Estimate) calibrate(past []Past) {
	var ratios []float64
	for _, p := range past {
		if p.Estimated > 0 && p.Actual > 0 {
			ratios = append(ratios, p.Actual.Seconds()/p.Estimated.Seconds())
		}
	}
	if est.Calibrated = len(ratios); len(ratios) == 0 {
		return
	}
	slices.Sort(ratios)
	middle := ratios[len(ratios)/2]
	plain := est.Expect.Seconds()
	est.Expect = seconds(plain * middle)
	est.Soon = seconds(plain * min(ratios[0], middle*0.8))
	est.Late = seconds(plain * max(ratios[len(ratios)-1], middle*1.25))
}

func (est *Estimate) money(i *Info, source, target *Side, w Work) {
	work := i.Totals.Work()
	sent := float64(work.Bytes-i.Back.Bytes) / 1e9
	if w.Inside {
		sent = 0
	}
	stored := float64(i.Totals[Add].Bytes+i.Totals[Change].Bytes-i.Back.Bytes) / 1e9
	if i.Rules.Extras != "trash" { // what is trashed stays and costs
		stored -= float64(i.Totals[Remove].Bytes) / 1e9
	}
	for _, x := range []struct {
		side        *Side
		r           Requests
		egress, gbs float64
	}{{source, est.Source, sent, 0}, {target, est.Target, float64(i.Back.Bytes) / 1e9, stored}} {
		if !x.side.Store {
			continue
		}
		rates := x.side.Rates
		if rates == nil {
			est.Unpriced = append(est.Unpriced, x.side.Name)
			continue
		}
		est.Currency, est.Example = rates.Currency, est.Example || rates.Example
		add := func(what string, count, price float64, monthly bool) {
			if count == 0 || price == 0 {
				return
			}
			c := Cost{Side: x.side.Name, What: what, Count: count, Amount: count * price, Monthly: monthly}
			est.Costs = append(est.Costs, c)
			if monthly {
				est.Monthly += c.Amount
			} else {
				est.Total += c.Amount
			}
		}
		for _, y := range []struct {
			what  string
			n     int64
			price float64
		}{{"listings", x.r.Lists, rates.Lists}, {"reads", x.r.Reads, rates.Reads}, {"writes", x.r.Writes, rates.Writes}, {"copies", x.r.Copies, rates.Copies}, {"removals", x.r.Removes, rates.Removes}} {
			add(y.what, float64(y.n)/1000, y.price, false)
		}
		add("GB out", x.egress, rates.Egress, false)
		if x.side == source {
			add("GB retrieved from cold", float64(i.Cold.Bytes)/1e9, rates.Retrieval, false)
		}
		add("GB stored", x.gbs, rates.Storage, true)
	}
}
