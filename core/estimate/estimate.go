package estimate

import (
	"cmp"
	"math"
	"slices"
	"time"

	"lumtra/core/cut"
	"lumtra/core/pace"
	"lumtra/core/plan"
	"lumtra/core/price"
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
	Rates *price.Rates
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

	// Cut is how objects are cut for the target.
	Cut cut.Sizes
	// Inside tells that the service copies within itself.
	Inside bool
	// Packed tells that all of it becomes one object: objects are read one by one, and sent in parts.
	Packed bool
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
	// Rereads tells that what leaves the source is read there a second time, since nothing
	// there vouches for the first.
	Rereads bool
	// FirstOver is the size in bytes above which objects are read once before they are sent, so that their checksum
	// can go along; 0 where none is.
	FirstOver int64
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
	Digesting time.Duration `json:",omitempty"`
	// Rereading is the time of reading the source a second time, 0 where that is not done.
	Rereading      time.Duration `json:",omitempty"`
	Source, Target price.Requests
	// Costs are by side and kind, Total their sum once, Monthly what storage
	// will cost more or less a month. Currency is "" when nothing has a price.
	Costs          []price.Cost `json:",omitempty"`
	Total, Monthly float64
	Currency       string `json:",omitempty"`
	// Unpriced names the stores without rates, Example tells that some of the
	// rates are made up.
	Unpriced []string `json:",omitempty"`
	Example  bool     `json:",omitempty"`
	Past     []Past   `json:",omitempty"`
	// AsPack is what it would take as one pack, where that may help; nil where not.
	AsPack *Estimate `json:",omitempty"`
}

// What is worth a pack: so many objects, of so few bytes each on average.
const (
	packsFrom = 1000
	packsTo   = 1 << 20
)

// WorthPacking tells that a plan sends many small objects.
func WorthPacking(i *plan.Info) bool {
	n, bytes := i.Totals[plan.Add].Count, i.Totals[plan.Add].Bytes
	return n >= packsFrom && bytes/n < packsTo && i.Back.Count == 0
}

// packedParts is in how many parts a pack of the plan's work goes.
func (w *Work) packedParts(i *plan.Info) int64 {
	all := i.Totals.Work()
	return max(w.Cut.Parts(all.Bytes+2048*all.Count), 1) // heads and the index are about that
}

// Of works out what carrying out a plan takes. It measures nothing and asks nobody.
func Of(i *plan.Info, source, target Side, w Work) Estimate {
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

func (est *Estimate) requests(i *plan.Info, source, target *Side, w Work) {
	defer est.lists(source, target)
	if w.Packed {
		est.Source.Reads = i.Totals.Work().Count - i.Totals[plan.Remove].Count
		est.Target.Writes, est.Target.Reads = w.packedParts(i)+2, 3
		return
	}
	moves := func(from, to *price.Requests, sizes *plan.Sizes) {
		for _, x := range sizes {
			if x.Count == 0 {
				continue
			}
			average := x.Bytes / x.Count
			switch {
			case w.Inside:
				to.Copies += x.Count
			case w.Cut.Parts(average) > 0:
				parts := x.Count * w.Cut.Parts(average)
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
		all := i.Totals[plan.Add].Count + i.Totals[plan.Change].Count
		share := float64(n) / float64(max(all, 1))
		reads, writes := int64(share*float64(est.Source.Reads)), int64(share*float64(est.Target.Writes))
		est.Source.Reads, est.Target.Reads = est.Source.Reads-reads, est.Target.Reads+reads
		est.Target.Writes, est.Source.Writes = est.Target.Writes-writes, est.Source.Writes+writes
	}
	est.Target.Copies += i.Asides.Count + i.Totals[plan.Meta].Count
	est.Target.Removes += price.Pages(max(i.Totals[plan.Remove].Count-i.Asides.Count, 0)) + i.Asides.Count
	if n := i.Afterwards.Count; n > 0 { // each copy is looked at, then its source seen to
		est.Target.Reads += n
		switch i.Rules.Afterwards {
		case rule.DeleteSource:
			est.Source.Removes += n
		case rule.ArchiveSource:
			est.Source.Copies, est.Source.Removes = est.Source.Copies+n, est.Source.Removes+n
		case rule.TagSource:
			est.Source.Reads, est.Source.Writes = est.Source.Reads+2*n, est.Source.Writes+n
		}
	}
	est.Source.Reads += w.twice(i).Count
	est.Source.Reads += i.Compared
	est.Target.Reads += i.Compared
}

// lists counts the requests of the next listings, where listings are requests.
func (est *Estimate) lists(source, target *Side) {
	for _, x := range []struct {
		side *Side
		r    *price.Requests
	}{{source, &est.Source}, {target, &est.Target}} {
		if !x.side.Store {
			*x.r = price.Requests{}
			continue
		}
		x.r.Lists += price.Pages(max(x.side.Objects, 1))
	}
}

// twice is what is read at the source a second time.
func (w *Work) twice(i *plan.Info) (again plan.Total) {
	if w.Rereads { // when all has been sent
		again = i.Afterwards
	}
	for n := range i.Sizes {
		if x := i.Sizes[n]; w.FirstOver > 0 && x.Count > 0 && x.Bytes/x.Count > w.FirstOver {
			again.Count, again.Bytes = again.Count+x.Count, again.Bytes+x.Bytes
		}
	}
	return again
}

// time works with two bounds. The sooner has every stream move at the rate that
// one was measured at; the later has all share that rate.
func (est *Estimate) time(i *plan.Info, source, target *Side, w Work) {
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
		if x := i.Sizes[n]; x.Count > 0 && !w.Inside {
			requests += float64(x.Count*w.Cut.Parts(x.Bytes/x.Count)) * wait
		}
	}
	if w.Packed {
		requests = float64(work.Count)*source.Latency.Seconds() + float64(w.packedParts(i))*target.Latency.Seconds()
		bytes += 2048 * float64(work.Count)
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
	if again := w.twice(i); again.Count > 0 {
		waits, moves := float64(again.Count)*source.Latency.Seconds(), float64(again.Bytes)/source.Down
		soon += (waits + moves) / streams
		late += waits/streams + moves
		est.Rereading = seconds(math.Sqrt((waits + moves) / streams * (waits/streams + moves)))
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

// money is what a run costs, by what each side asks for its requests and bytes.
func (est *Estimate) money(i *plan.Info, source, target *Side, w Work) {
	work := i.Totals.Work()
	sent := work.Bytes - i.Back.Bytes
	if w.Inside {
		sent = 0
	}
	sent += w.twice(i).Bytes
	stored := i.Totals[plan.Add].Bytes + i.Totals[plan.Change].Bytes - i.Back.Bytes
	if i.Rules.TargetOnly != rule.MoveToTrash { // what is trashed stays and costs
		stored -= i.Totals[plan.Remove].Bytes
	}
	for _, x := range []struct {
		side *Side
		use  price.Use
	}{{source, price.Use{Requests: est.Source, Out: sent, Retrieved: i.Cold.Bytes}},
		{target, price.Use{Requests: est.Target, Out: i.Back.Bytes, Stored: stored}}} {
		if !x.side.Store {
			continue
		}
		if x.side.Rates == nil {
			est.Unpriced = append(est.Unpriced, x.side.Name)
			continue
		}
		est.Currency, est.Example = x.side.Rates.Currency, est.Example || x.side.Rates.Example
		for _, c := range x.side.Rates.Costs(x.side.Name, x.use) {
			est.Costs = append(est.Costs, c)
			if c.Monthly {
				est.Monthly += c.Amount
			} else {
				est.Total += c.Amount
			}
		}
	}
}
