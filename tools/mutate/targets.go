package main

import (
	"path/filepath"
	"slices"
	"strings"
)

// targets are the files in which it is decided what becomes of data, with the tests that
// guard each.
var targets = []target{
	{"core/plan/judge.go", planTests}, {"core/plan/choices.go", planTests}, {"core/plan/build.go", planTests},
	{"core/plan/touched.go", planTests},
	{"core/plan/blocked.go", planTests}, {"core/plan/summary.go", planTests},
	{"core/rule/rule.go", []string{"./core/rule", "./core/job", "./core/plan -run TestNamed",
		"./core/plan -run TestAgainstReference -rapid.checks=60"}},
	{"core/rule/selection.go", []string{"./core/rule", "./core/plan -run TestAgainstReference -rapid.checks=60"}},
	{"core/handle/count.go", handleTests}, {"core/handle/handle.go", handleTests},
	{"core/handle/ranges.go", handleTests},
	{"core/transfer/afterwards.go",
		[]string{"./core/transfer -run TestLetting|TestBadCopiesLet|TestAfterwards|TestDoubt",
			"./service -run TestAfterwards", "./cmd/lumtra -run TestAfterwards|TestMove"}},
	{"core/agreed/agreed.go", []string{"./core/agreed"}}, {"core/agreed/revise.go", []string{"./core/agreed"}},
	{"core/agreed/doubt.go", []string{"./core/agreed"}}, {"core/transfer/agree.go",
		[]string{"./core/transfer -run TestModel|TestEvidence|TestWhatIsGone",
			"./service -run TestEveryHistory"}},
	{"core/compare/compare.go", []string{"./core/compare", "./core/proof"}},
	{"core/proof/proof.go", []string{"./core/proof"}}, {"core/proof/planned.go", []string{"./core/proof"}},
	{"core/catalog/survey.go", []string{"./core/catalog"}},
	{"core/pace/hours.go", []string{"./core/pace"}},
	{"core/schedule/calendar.go", scheduleTests}, {"core/schedule/civil.go", scheduleTests},
	{"core/schedule/schedule.go", scheduleTests}, {"core/schedule/policy.go", scheduleTests},
	{"core/schedule/cron.go", scheduleTests}, {"core/schedule/recur.go", scheduleTests},
	{"core/schedule/except.go", scheduleTests}, {"core/schedule/text.go", scheduleTests},
	{"core/starts/book.go", []string{"./core/starts", "./service/agenda -run Test[^Y]"}},
	{"core/forecast/forecast.go", []string{"./core/forecast"}},
	{"core/notify/settings.go", notifyTests}, {"core/notify/send.go", notifyTests}, {"core/notify/outbox.go",
		notifyTests},
	{"core/arrive/rules.go", []string{"./core/arrive -run TestRules|TestGrowing"}},
	{"core/arrive/events.go", []string{"./core/arrive -run TestReceiver"}},
	{"core/pack/change.go", packTests}, {"core/pack/division.go", packSetTests}, {"core/pack/set.go", packSetTests},
	{"core/pack/setlist.go", packSetTests}, {"core/pack/place.go", packTests}, {"core/pack/versions.go", packTests},
	{"core/pack/compact.go", packInsideTests}, {"core/pack/runs.go", packInsideTests},
	{"core/pack/begun.go", []string{"./core/pack -run TestChangeLeaves|TestPartRefused"}},
	{"core/pack/extract.go", []string{"./core/pack", "./cli -run TestPacks|TestAttributes"}},
	{"core/pack/upload.go", []string{"./core/pack -run TestPart|TestChangeLeaves|TestWhy|TestStays",
		"./core/transfer -run TestPack[^s]"}},
	{"core/transfer/packing.go", []string{"./core/transfer -run " +
		"TestPack|TestMoveIntoPack|TestDamagedPlan|TestFoldersOf"}},
	{"core/transfer/packset.go", packSetTests},
	{"core/transfer/packrounds.go",
		[]string{"./core/pack -run TestRounds",
			"./core/transfer -run TestWhenIn|TestRoundsToo|TestBlockedInR|TestPackGoesOn|TestPackGuards"}},
	{"service/agenda/desk.go", []string{"./service/agenda"}},
	{"service/notifier/happened.go", []string{"./service/notifier"}},
	{"service/workroom/choosing.go",
		[]string{"./service -run TestDecide|TestComparePlans|TestNothingToDecide|TestChoices|TestForgedChoices"}},
	{"service/workroom/blocking.go", []string{"./service -run TestBlockedBy|TestBlockers"}},
	{"service/workspace/trust.go", []string{"./service -run TestSecretsGo|TestWhatWasLet"}},
	{"service/state/state.go", []string{"./service/state"}}, {"service/state/move.go", []string{"./service/state"}},
	{"tui/plan/choose.go", []string{"./tui/plan", "./tui/frame -run TestEveryKey|TestApprov|TestActs"}},
}

var (
	planTests = []string{"./core/plan -run " +
		"TestNamed|TestFactsAsked|TestDriftOf|TestClocks|TestNot|TestBeside|TestLargest|TestLooks|TestDamaged|" +
		"TestSummary|TestStriking|TestApproving|TestDeciding|TestChoicesThat|TestStamp|TestAsking|TestRulesThat|" +
		"TestPartial|TestEstimate|TestForged|Fuzz",
		"./core/plan -run TestAgainstReference -rapid.checks=60",
		"./core/plan -run TestManyStretches|TestStretchesBelow|TestNumbers|TestDiff|TestBlocked",
		"./service -run TestChoices|TestTouched|TestAgreed|TestForgedChoices"}
	scheduleTests = []string{"./core/schedule -run Test[^YN]",
		"./core/schedule -run TestYear|TestNext -rapid.checks=30"}
	notifyTests     = []string{"./core/notify"}
	packInsideTests = []string{"./core/pack -run TestStays|TestWhy|TestIsHead",
		"./core/pack -run TestRewriteInside -rapid.checks=20"}
	packTests = []string{"./core/pack -run " +
		"TestRefused|TestChange|TestVersions|TestOwn|TestScratch|TestAs|TestRewriteOf|TestNames -rapid.checks=20",
		"./core/pack -run TestRoundTrip|TestForeign|TestDamage|TestRequests",
		"./cli -run TestVersionsInPacks|TestPacks"}
	packSetTests = []string{"./core/pack -run TestRefused|TestDivision|TestLists|TestPackLets",
		"./core/transfer -run TestPacks|TestSet|TestDamagedPlan",
		"./cli -run TestSeveralPacks"}
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
