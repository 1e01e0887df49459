package workroom

import (
	"context"
	"fmt"
	"path"
	"path/filepath"
	"time"

	"lumtra/core/arrive"
	"lumtra/core/catalog"
	"lumtra/core/job"
	"lumtra/core/object"
)

// RulesOfArrival are those of a job that starts when something comes.
func RulesOfArrival(j *job.Job) arrive.Rules {
	a := &j.When.Arrival
	return arrive.Rules{Settle: a.SettleTime(), NotYet: a.NotYet, Marker: a.Marker}
}

// lately is how old a file may be to be asked whether somebody has it open.
const lately = 24 * time.Hour

// arrived says why objects of a job's source have not arrived yet: nil for jobs that do not start when
// something comes. Whoever plans such a job, nothing goes that is still growing.
func (s *Room) arrived(ctx context.Context, j *job.Job, from *catalog.Catalog) (func(*object.Entry) string, error) {
	if j.Schedule == nil || !j.Schedule.Arrival {
		return nil, nil
	}
	rules := RulesOfArrival(j)
	began := from.Info.Began
	marked, err := markedFolders(ctx, &rules, from)
	if err != nil {
		return nil, err
	}
	local, isLocal := s.ws.LocalPath(j.Source)
	return func(e *object.Entry) string {
		switch {
		case rules.IsMarker(e.Key):
			return "it is the marker that says that its folder has arrived"
		case rules.NameWaits(e.Key):
			return "its name says that it has not arrived yet"
		case marked != nil && !marked[path.Dir(e.Key)]:
			return fmt.Sprintf("there is no %s beside it yet", rules.Marker)
		case isLocal && marked == nil && !rules.Settled(e.Modified, began):
			return "it changed less than " + rules.Settle.String() + " before it was listed"
		case isLocal && began.Sub(e.Modified) < lately && arrive.OpenForWriting(filepath.Join(local,
			filepath.FromSlash(e.Key))):
			return "somebody has it open for writing"
		}
		return ""
	}, nil
}

// markedFolders are the folders in which a marker lies; nil where none is asked for.
func markedFolders(ctx context.Context, rules *arrive.Rules, from *catalog.Catalog) (map[string]bool, error) {
	if rules.Marker == "" {
		return nil, nil
	}
	marked := map[string]bool{}
	c := from.Cursor("")
	for n := 0; c.Next(); n++ {
		if n%10_000 == 0 && ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if key := c.Entry().Key; rules.IsMarker(key) {
			marked[path.Dir(key)] = true
		}
	}
	return marked, c.Err()
}
