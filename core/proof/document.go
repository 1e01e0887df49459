package proof

import (
	"bufio"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/dustin/go-humanize"

	"lumtra/core/compare"
	"lumtra/core/object"
)

// The document to hand over, and the manifest of digests beside it.
const (
	DocumentFile = "proof.txt"
	// shownDifferences is how many the document names; all are in
	// [DifferencesFile].
	shownDifferences = 200
	// documentWidth is how long a line of words may be beside its name.
	documentWidth = 84
)

// DigestFile is the manifest of digests of a kind: a line an object that was
// found the same, its digest and its key, as in a payload manifest of BagIt
// (RFC 8493, section 2.1.3) but with keys as they are at the target, so that
// `sha256sum -c` run in a target folder takes it. Keys with a line break or a
// backslash are escaped as that program does.
func DigestFile(kind object.SumKind) string { return "manifest-" + kind.String() + ".txt" }

// methodWords say how closely was looked.
var methodWords = map[compare.Method]string{
	compare.BySize:      "by size alone",
	compare.ByStoredSum: "by the checksums that the places keep, or read to match them",
	compare.ByReadBack:  "byte for byte, both sides read whole",
}

// digests is a manifest being written.
type digests struct {
	file *os.File
	out  *bufio.Writer
}

func createDigests(dir string, kind object.SumKind) (*digests, error) {
	f, err := os.OpenFile(filepath.Join(dir, DigestFile(kind)), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	return &digests{f, bufio.NewWriterSize(f, 128<<10)}, nil
}

func (d *digests) write(sum object.Sum, key string) error {
	escaped := strings.NewReplacer("\\", `\\`, "\n", `\n`, "\r", `\r`).Replace(key)
	head := ""
	if escaped != key {
		head = `\`
	}
	_, err := fmt.Fprintf(d.out, "%s%s  %s\n", head, sum.Hex(), escaped)
	return err
}

func (d *digests) finish() error {
	if err := d.out.Flush(); err != nil {
		return err
	}
	return d.file.Sync()
}

// WriteDocument writes the proof in words: what was compared, how, when, and
// what was found. Differences are those to name.
func WriteDocument(w io.Writer, s *Summary, differences []Line) error {
	var b strings.Builder
	say := func(format string, args ...any) { fmt.Fprintf(&b, format+"\n", args...) }
	say("Proof %d of %s", s.Number, s.Job)
	say("")
	if s.Holds() {
		say("It holds: %s.", s.Words())
	} else {
		say("IT DOES NOT HOLD.")
		if s.OnlyUnproven() {
			say("Nothing was found different or missing, but not everything could be compared.")
		}
	}
	say("")
	say("Source    %s", object.Display(s.Source))
	say("Target    %s", object.Display(s.Target))
	say("Compared  %s", methodWords[s.Method])
	if s.Plan > 0 {
		say("Held to   plan %d: what came or was changed after it was made is no difference", s.Plan)
	}
	say("Began     %s", s.Began.Format(time.RFC3339))
	say("Ended     %s", s.Ended.Format(time.RFC3339))
	if s.Digest != "" {
		say("Digests   %s of every object found the same, in %s", s.Digest, "manifest-"+s.Digest+".txt")
	}
	for _, w := range s.Ways.Shown() {
		for i, part := range wrapped(string(w.Name) + ": " + w.Way) {
			head := ""
			if i == 0 {
				head = map[string]string{"source": "Source", "target": "Target"}[w.Side]
			}
			say("%-9s %s", head, part)
		}
	}
	say("")
	for _, v := range []Verdict{Same, Different, Missing, Unproven, Extra, Since} {
		if v == Since && s.Plan == 0 {
			continue
		}
		say("%-13s %11s objects  %12s", v, humanize.Comma(s.Objects[v]), humanize.IBytes(uint64(max(s.Bytes[v], 0))))
	}
	if s.Gaps > 0 {
		say("%-13s %11s parts of the places could not be listed: nothing is proven of the whole", "gaps",
			humanize.Comma(s.Gaps))
	}
	if len(differences) > 0 {
		say("")
		for _, l := range differences {
			say("%-13s %s: %s", l.Verdict, object.Display(l.Key), object.Display(l.Why))
		}
		var all int64
		for _, v := range Verdicts[1:] {
			all += s.Objects[v]
		}
		if all > int64(len(differences)) {
			say("and %s more, in %s", humanize.Comma(all-int64(len(differences))), DifferencesFile)
		}
	}
	_, err := io.WriteString(w, b.String())
	return err
}

// Words say what is so when a proof holds.
func (s *Summary) Words() string {
	words := "everything at the source"
	if s.Objects[Since] > 0 {
		words += fmt.Sprintf(", as plan %d knew it,", s.Plan)
	}
	words += " is at the target with the same "
	if s.Method == compare.BySize {
		words += "size"
	} else {
		words += "content"
	}
	if s.Both {
		words += ", and nothing else is there"
	}
	return words
}

// wrapped breaks words into lines that fit beside their name.
func wrapped(text string) (lines []string) {
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len(line)+1+len(word) > documentWidth {
			lines, line = append(lines, line), ""
		}
		line = strings.TrimPrefix(line+" "+word, " ")
	}
	return append(lines, line)
}

// writeDocument writes the document into the proof's folder.
func (s *Summary) writeDocument(dir string) error {
	lines, err := ReadDifferences(dir, shownDifferences)
	if err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(dir, DocumentFile), os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	err = WriteDocument(f, s, lines)
	if closed := f.Close(); err == nil {
		err = closed
	}
	return err
}
