package rule

// Settings once had other names and values. Files and plans that were written then are read
// as they were meant.

// OldNames are the names that settings of a job had, and those they have now.
var OldNames = map[string]string{
	"judge": "compare-by", "different": "when-different", "extras": "target-only", "guards": "safety",
	"guards.removals": "safety.deletions", "guards.removal-share": "safety.deletion-share",
}

// TakeOldValues gives settings with a value of an earlier build the one of today; decoders of
// TOML write texts as they are.
func (r *Rules) TakeOldValues() {
	r.WhenDifferent.UnmarshalText([]byte(r.WhenDifferent))
	r.TargetOnly.UnmarshalText([]byte(r.TargetOnly))
	r.Afterwards.UnmarshalText([]byte(r.Afterwards))
}

// UnmarshalText reads the value.
func (w *WhenDifferent) UnmarshalText(text []byte) error {
	if *w = WhenDifferent(text); *w == "newer" {
		*w = IfNewer
	}
	return nil
}

// UnmarshalText reads the value.
func (o *TargetOnly) UnmarshalText(text []byte) error {
	switch *o = TargetOnly(text); *o {
	case "leave":
		*o = KeepThere
	case "remove":
		*o = DeleteThere
	}
	return nil
}

// UnmarshalText reads the value.
func (a *Afterwards) UnmarshalText(text []byte) error {
	if *a = Afterwards(text); *a == "remove" {
		*a = DeleteSource
	}
	return nil
}
