package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"
)

// word is an event that commands tell with --json, one object a line. Names stay: programs
// read them. docs/json.md is written from this list.
type word struct{ event, means, fields string }

// vocabulary is every event there is.
var vocabulary = []word{
	{"acted", "something was done by hand", "what objects bytes copied sent versions markers uploads failed left " +
		"problems"},
	{"acting", "how far something done by hand is", "what objects bytes versions markers uploads of_number"},
	{"background", "the background service carries the run out", "job"},
	{"bucket", "what belongs to a bucket and not to its objects", "bucket tags access public"},
	{"building", "the demo's world is being built", "dir"},
	{"change", "a key of which two plans say otherwise", "key was is"},
	{"changes", "how many keys two plans say otherwise of", "was_plan is_plan count"},
	{"check", "what a check before a run found", "name weight found mend blocks"},
	{"collision", "two coming runs that want one endpoint at the same time",
		"job with endpoint from to longer_seconds"},
	{"coming", "a start of a job by itself that will be",
		"job slot at cause clock seconds soonest_seconds latest_seconds"},
	{"confirmed", "a secret may go to an address now", "endpoint what address"},
	{"credential", "a kept credential", "label kind name fingerprint changed until used_by"},
	{"deleted", "settings of this name are gone, or a bucket is", "endpoint credential job bucket"},
	{"done", "the demo's story is told", "dir"},
	{"effect", "what a plan does with one key", "effect key bytes why"},
	{"endpoint", "an endpoint", "name kind at credential state allows until"},
	{"entry", "something that lies at a place", "key kind bytes modified class"},
	{"error", "the command could not do what it was asked for", "message exit"},
	{"estimate", "what a run takes", "seconds soonest_seconds latest_seconds learnt_from assumed " +
		"digest_processor_seconds rereading_seconds source_requests target_requests costs " +
		"total monthly currency example_rates " +
		"unpriced " +
		"pack_seconds pack_target_requests pack_total"},
	{"exported", "a file was written", "file"},
	{"failed", "an object that failed in the runs of a plan, and was not done since", "key bytes cause why tries"},
	{"failure", "something that could not be listed", "message"},
	{"info", "all that is known of an object", "key bytes modified original kind content_type content_encoding " +
		"class etag version checksums metadata tags versions"},
	{"job", "a job, or what was done with one", "job kind source target path text was"},
	{"kept", "a credential was kept", "label fingerprint"},
	{"log", "a line of the log", "line"},
	{"lands", "where something lands that is brought without a job", "from to job"},
	{"link", "a signed address", "address until"},
	{"listening", "a stand-in listens", "address dir"},
	{"locked", "the kept credentials are locked anew", "with left"},
	{"made", "a bucket, a folder or a workspace was made", "bucket folder workspace"},
	{"mark", "a tag, or a line of metadata", "kind name value"},
	{"matches", "what a pattern matches", "pattern below objects bytes"},
	{"meddled", "the demo changed its own world", "added changed deleted"},
	{"message", "a message to somebody who is told what happened",
		"id name state kind subject tries made due message"},
	{"mistake", "a file of the workspace that cannot be used", "message"},
	{"next", "the command that goes on from here", "command why"},
	{"note", "something worth knowing", "text"},
	{"nothing-to-do", "nothing had to be done; the exit code is 3, or 0 with --unchanged-ok", "message place"},
	{"packed", "what a pack holds", "pack form members bytes dropped dropped_bytes size indexed damage"},
	{"plan", "a plan", "job plan compare_by totals held warnings notes ways afterwards"},
	{"planned", "a plan, in the demo", "plan totals"},
	{"progress", "how far a survey, a plan or a proof is; every 10 seconds",
		"stage source_objects target_objects compared_objects compared_bytes"},
	{"proof", "a proof", "job proof plan method holds objects bytes gaps ways dir"},
	{"proved", "a proof, in the demo", "holds method objects manifest"},
	{"ran", "a run, in the demo", "plan end objects bytes failed seconds"},
	{"receiver", "somebody who is told what happened", "name kind target on"},
	{"resume", "an older plan is gone on with", "job plan"},
	{"rule", "what one rule of a selection does", "rule takes takes_bytes drops drops_bytes idle"},
	{"run", "a run that has ended, or of the history", "job plan began end note objects bytes before failed retries " +
		"handled unverified notes gaps seconds problems"},
	{"running", "how far a run is; every 10 seconds", "job plan how objects of_objects bytes of_bytes percent " +
		"bytes_per_second handled of_handled failed streams limit limiter priority soonest_seconds_left " +
		"latest_seconds_left held_back_by"},
	{"sampled", "what compressors were tried on", "files bytes read processors requests once monthly"},
	{"sent", "a test message was sent", "name id target"},
	{"service", "the background service", "running pid began workspace state"},
	{"start", "a start of a job by itself, as it went", "job slot cause state plan note"},
	{"unit", "a unit of the system's service manager", "text"},
	{"step", "a step of an endpoint's test", "name outcome found mend seconds"},
	{"survey", "one side that was listed", "place objects bytes absent complete missed problems seconds"},
	{"surveyed", "both sides, in the demo", "source source_objects source_bytes target target_objects"},
	{"test", "an endpoint's test as a whole", "endpoint bucket refused latency_seconds skew_seconds " +
		"up_bytes_per_second down_bytes_per_second versioning"},
	{"trial", "what a compressor made of the sample; rates are raw bytes a second",
		"name form ratio size in in_all out out_all seconds kinds requests once monthly best"},
	{"upload", "an unfinished upload", "key id begun parts bytes"},
	{"version", "a version of an object", "key version bytes modified kind current deleted"},
	{"versioning", "whether a bucket keeps versions", "bucket versioning"},
	{"warming", "the demo runs two small jobs", ""},
	{"would", "what would be done, once somebody agrees or gives its number", "what number objects bytes versions " +
		"markers uploads"},
}

// fieldMeans says what fields mean that do not say it themselves.
var fieldMeans = map[string]string{
	"absent":           "the place is not there yet",
	"access":           "who may reach it, in words, a line each",
	"afterwards":       "what becomes of the source once proven: objects and bytes",
	"assumed":          "sides that were never measured",
	"before":           "objects that earlier runs of the plan had done",
	"blocks":           "a run does not begin despite it, unless --despite names it",
	"class":            "storage class, \"\" for the store's standard one",
	"command":          "a line that a shell takes as it is",
	"complete":         "everything could be listed",
	"effect":           "add, change, delete and so on, as a plan has them",
	"end":              "done, done-with-failures, stopped, interrupted or running",
	"exit":             "the exit code: see lumtra --help",
	"gaps":             "parts of the places that could not be listed",
	"held":             "safety limits that hold the plan back, in words",
	"held_back_by":     "where most of the time of late went",
	"how":              "what it is at: carrying, deleting, paused, …",
	"learnt_from":      "how many earlier runs the estimate was learnt from",
	"left":             "how many needed nothing",
	"archived":         "how many have to be asked for before they can be read",
	"restoring":        "how many are on their way",
	"readable":         "how many can be read now",
	"until":            "when the first of them goes again",
	"limiter":          "whose limit is in force: the job's, an endpoint's, by hand",
	"message":          "a sentence for people; it may change",
	"missed":           "how many parts could not be listed",
	"modified":         "when, as the place itself says (RFC 3339)",
	"number":           "what --approve takes",
	"of_number":        "how many things it is about",
	"original":         "when the object was modified where it came from",
	"problems":         "causes of failures, or failures, in words",
	"public":           "no, read or list: what anybody may do without signing",
	"refused":          "how many steps were refused",
	"handled":          "sources that something became of",
	"time":             "of every event: when it was told",
	"totals":           "objects and bytes by effect",
	"tries":            "each attempt: at, number, why",
	"unverified":       "objects sent that no checksum could verify",
	"used_by":          "endpoints",
	"ways":             "how what Lumtra promises is kept: side, promise, way, weak",
	"what":             "in words",
	"why":              "in words",
	"bytes_per_second": "of late",
}

// jsonDocument is docs/json.md.
func jsonDocument() string {
	var b strings.Builder
	b.WriteString(`# What --json says

With ` + "`--json`" + ` every command prints one JSON object a line on standard output. Each has ` + "`event`" + `,
	a name
from the list below, and ` + "`time`" + ` (RFC 3339). Names of events and fields are lower case and stay as they are;
new ones may come, and programs should pass over what they do not know. Sizes are in bytes, spans of time
in seconds. A field that says nothing may be absent or ` + "`null`" + `. Keys are as the store has them; where JSON
cannot hold their bytes they are escaped as on screens. Exit codes are those of ` + "`lumtra --help`" + `.

    $ lumtra run masters --json
    {"event":"plan","job":"masters","plan":4,"totals":{"add":{"objects":2,"bytes":91}},…}
    {"event":"run","job":"masters","plan":4,"end":"done","objects":2,"bytes":91,"failed":0,…}
    {"event":"next","command":"lumtra prove masters","why":"prove that both sides are the same"}

This page is written from the program: ` + "`go test ./cli -run TestVocabulary -update`" + `.

| event | means | fields |
|---|---|---|
`)
	for _, w := range vocabulary {
		fields := strings.Fields(w.fields)
		for i, f := range fields {
			fields[i] = "`" + f + "`"
		}
		fmt.Fprintf(&b, "| `%s` | %s | %s |\n", w.event, w.means, strings.Join(fields, ", "))
	}
	b.WriteString("\n## Fields that need a word\n\n| field | means |\n|---|---|\n")
	for _, name := range slices.Sorted(maps.Keys(fieldMeans)) {
		fmt.Fprintf(&b, "| `%s` | %s |\n", name, fieldMeans[name])
	}
	return b.String()
}
