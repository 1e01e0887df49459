package main

import (
	"path/filepath"
	"slices"
	"strings"
)

// targets are the files in which it is decided what becomes of data, with the tests that
// guard each.
var targets = []target{
	{"core/plan/judge.go", planTests}, {"core/plan/choices.go", planTests}, {"core/plan/build.go", planTests}, {"core/plan/touched.go", planTests},
	{"core/plan/blocked.go", planTests}, {"core/plan/summary.go", planTests},
	{"core/rule/rule.go", []string{"./core/rule", "./core/job", "./core/plan -run TestNamed", "./core/plan -run TestAgainstReference -rapid.checks=60"}},
	{"core/rule/selection.go", []string{"./core/rule", "./core/plan -run TestAgainstReference -rapid.checks=60"}},
	{"core/handle/count.go", handleTests}, {"core/handle/handle.go", handleTests}, {"core/handle/ranges.go", handleTests},
	{"core/transfer/afterwards.go", []string{"./core/transfer -run TestLetting|TestBadCopiesLet|TestAfterwards", "./service -run TestAfterwards"}},
	{"core/agreed/agreed.go", []string{"./core/agreed"}},
	{"core/compare/compare.go", []string{"./core/compare", "./core/proof"}},
	{"core/proof/proof.go", []string{"./core/proof"}},
	{"core/catalog/survey.go", []string{"./core/catalog"}},
	{"core/pace/hours.go", []string{"./core/pace"}},
	{"service/choosing.go", []string{"./service -run TestDecide|TestComparePlans|TestNothingToDecide|TestChoices|TestForgedChoices"}},
	{"service/blocking.go", []string{"./service -run TestBlockedByWhat|TestBlockers"}},
	{"service/trust.go", []string{"./service -run TestSecretsGo|TestWhatWasLet"}},
	{"service/state/state.go", []string{"./service/state"}}, {"service/state/move.go", []string{"./service/state"}},
	{"tui/plan/choose.go", []string{"./tui/plan", "./tui/frame -run TestEveryKey|TestApprov|TestActs"}},
}

var (
	planTests = []string{"./core/plan -run TestNamed|TestSkew|TestNotCompared|TestBeside|TestLargest|TestLooks|TestDamaged|TestSummary|TestStriking|TestApproving|TestDeciding|TestChoicesThat|TestStamp|TestAsking|TestRulesThat|TestPartial|TestEstimate|TestForged|Fuzz",
		"./core/plan -run TestAgainstReference -rapid.checks=60", "./core/plan -run TestManyStretches|TestNumbers|TestDiff|TestBlocked", "./service -run TestChoices|TestTouched|TestAgreed|TestForgedChoices"}
	handleTests = []string{"./core/handle"}
)

// chosen are the targets that were named, or all.
func chosen(names []string) []target {
	if len(names) == 0 {
		return targets
	}
	return slices.DeleteFunc(slices.Clone(targets), func(t target) bool {
		return !slices.ContainsFunc(names, func(n string) bool {
			n = filepath.Clean(n)
			return t.file == n || strings.HasPrefix(t.file, n+"/")
		})
	})
}
