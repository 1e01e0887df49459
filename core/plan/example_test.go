package plan_test

import (
	"fmt"
	"time"

	"lumtra/core/object"
	"lumtra/core/plan"
	"lumtra/core/rule"
)

// A plan is effects, each with its reason; what a person strikes out is passed over, and
// nothing else is.
func ExampleChoices() {
	e := plan.Effect{Key: "weir/dawn.wav", Kind: plan.Change, Reason: plan.OtherSize, Moved: plan.AtSource,
		Source: &object.Entry{Size: 2048, Modified: time.Unix(0, 0)},
		Target: &object.Entry{Size: 1024, Modified: time.Unix(0, 0)}}
	fmt.Println(e.Kind, "because", e.Why())
	var c plan.Choices
	c.Strike("weir/")
	fmt.Println(c.IsStruck("weir/dawn.wav"), c.IsStruck("weir.txt"))
	c.Strike("weir/") // and in again
	fmt.Println(c.IsStruck("weir/dawn.wav"))
	// Output:
	// change because 2.0 KiB at the source, 1.0 KiB at the target, changed at the source since the last run
	// true false
	// false
}

// A conflict is nobody's to guess: it stays one until a person decides it.
func ExampleEffect_Decide() {
	e := plan.Effect{Key: "notes.txt", Kind: plan.Conflict, Reason: plan.Undecided, Source: &object.Entry{Size: 1},
		Target: &object.Entry{Size: 2, Modified: time.Unix(0, 0)}}
	for _, how := range []rule.Conflicts{rule.SourceWins, rule.TargetWins, rule.BothStay, rule.Ask} {
		e.Decide(how)
		fmt.Printf("%s → %s %v %q\n", how, e.Kind, e.Back, e.Aside)
	}
	// Output:
	// source → change false ""
	// target → change true ""
	// keep-both → change false "notes (1970-01-01 00.00.00).txt"
	// ask → conflict false ""
}
