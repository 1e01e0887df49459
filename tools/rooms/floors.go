package main

// floor is some rooms on one height of the house, with what they are for.
type floor struct {
	name, does string
	rooms      []string
	passed     bool // data goes through here on its way
}

// floors are the house from the ground up. A room imports only from rooms that stand before
// it; imports_test.go holds the code to it. "x/…" are all rooms below x that are not named
// elsewhere, side by side: the kinds of places, the views.
var floors = []floor{
	{"Nouns and means", "keys, entries, checksums; files of sorted records; rates; secrets", []string{
		"testkit", "client", "core/object", "core/nearest", "core/atomicfile", "core/database", "core/inorder",
		"core/pace", "core/price", "core/room", "core/segment", "core/secret"}, false},
	{"Rules", "what a job's phrases mean, and when it starts", []string{"core/rule", "core/schedule", "core/notify"},
		false},
	{"Stand-ins", "stores to try on, with faults on demand", []string{"standin"}, false},
	{"Places", "where objects lie, what can be done there, and how sure that is", []string{
		"core/place", "core/place/wire", "core/place/kind", "core/place/placetest", "core/place/…",
		"core/place/kinds"}, true},
	{"Work on places", "listing, comparing, handling, trying out", []string{
		"core/retry", "core/cut", "core/compare", "core/handle", "core/listing", "core/level", "core/preview",
		"core/probe", "core/place/gather", "core/arrive", "core/pack", "core/sample"},
		false},
	{"Survey", "a place in a catalog; what both sides agreed on", []string{"core/catalog", "core/agreed"}, true},
	{"Plan", "jobs; effects with their reasons; what they will take",
		[]string{"core/job", "core/plan", "core/plan/plantest", "core/estimate"}, true},
	{"Run", "effects carried out, and the ledger of them", []string{"core/ledger", "core/transfer", "core/history",
		"core/starts", "core/forecast"}, true},
	{"Proof", "both sides compared; what is written for people", []string{"core/proof", "core/report"}, true},
	{"Workspace", "what a person set up, and where its state lies",
		[]string{"service/life", "service/event", "service/state", "service/workspace"}, false},
	{"Jobs at work", "browsing; planning, checking, proving; runs, here and elsewhere", []string{
		"service/browse", "service/workroom", "service/runs", "service/cycle", "service/remote", "service/agenda",
		"service/notifier", "service/arrivals", "service/measure", "service/api",
		"service"}, false},
	{"Interfaces", "the window and the commands", []string{
		"docs", "tui/look", "tui/kit", "tui/…", "tui/frame",
		"demo", "cli"}, false},
	{"Outside", "the program, and what measures it", []string{"cmd/lumtra", "bench", "tools/mutate", "tools/patient",
		"tools/rooms", "tools/told"}, false},
}

// forbidden are imports that would go down and yet past a door: interfaces reach the work
// through service, and name a kind of place through its registry.
var forbidden = map[string][]string{
	"tui/": {"core/segment", "core/transfer/", "core/place/s3", "core/place/blob", "core/place/folder",
		"core/place/weblist", "core/place/gather"},
	"cli": {"tui/", "core/segment", "core/place/s3", "core/place/blob", "core/place/folder", "core/place/weblist",
		"core/place/gather"},
}
