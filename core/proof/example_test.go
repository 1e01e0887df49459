package proof_test

import (
	"fmt"

	"lumtra/core/proof"
)

// A proof holds when nothing is missing, different or unproven and both listings were
// whole. What is only at the target counts where both sides are to be the same.
func ExampleSummary_Holds() {
	s := proof.Summary{Objects: map[proof.Verdict]int64{proof.Same: 12_000, proof.Extra: 3}}
	fmt.Println(s.Holds())
	s.Both = true
	fmt.Println(s.Holds())
	s.Both, s.Gaps = false, 1
	fmt.Println(s.Holds())
	// Output:
	// true
	// false
	// false
}
