package workroom

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"lumtra/core/catalog"
	"lumtra/core/job"
	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/gather"
	"lumtra/core/place/kinds"
	"lumtra/core/rule"
	"lumtra/service/event"
	"lumtra/service/workspace"
)

// sides are a job's two places with their surveys.
type sides struct {
	source, target place.Place
	// lands is the place the job's objects land at, as people write it.
	lands    string
	from, to *catalog.Catalog
	notes    []string
	unlock   func() error
}

func (x *sides) close() {
	for _, c := range []*catalog.Catalog{x.from, x.to} {
		if c != nil {
			c.Close()
		}
	}
	if x.unlock != nil {
		x.unlock()
	}
}

// places opens a job's two places: the source, which may be one object, and
// where it lands.
func (s *Room) places(ctx context.Context, j *job.Job) (*sides, error) {
	x, err := s.folders(j)
	if err != nil {
		return nil, err
	}
	parent, name, err := s.single(ctx, j, x)
	if err != nil {
		return nil, err
	}
	if parent != nil {
		if err := s.takeOne(j, x, parent, name); err != nil {
			return nil, err
		}
	}
	return x, s.apart(j, x)
}

// folders opens a job's two places as if the source were a folder, and asks
// neither anything.
func (s *Room) folders(j *job.Job) (*sides, error) {
	x := &sides{lands: j.Lands()}
	var err error
	if x.source, err = s.ws.Place(context.Background(), j.Source); err != nil {
		return nil, err
	}
	x.target, err = s.ws.Place(context.Background(), x.lands)
	return x, err
}

// parent is the place a source lies in, and its name there; nil where it can
// only be a place of its own.
func (s *Room) parent(j *job.Job) (place.Place, string, error) {
	end, at := job.SplitPlace(j.Source)
	e := s.ws.Workspace().Endpoints[end]
	dir, name := path.Split(at)
	if e == nil || name == "" || dir == "" && kinds.Of(e).Buckets {
		return nil, "", nil
	}
	p, err := s.ws.Place(context.Background(), end+"/"+dir)
	return p, name, err
}

// single finds out whether the source is one object: then it gives the place
// it lies in, and its name. A folder of the same name that holds something
// comes first, and the plan says so.
func (s *Room) single(ctx context.Context, j *job.Job, x *sides) (place.Place, string, error) {
	parent, name, err := s.parent(j)
	if err != nil || parent == nil {
		return nil, "", err
	}
	found, err := parent.Stat(ctx, object.Ref{Key: name})
	if err != nil || found.Kind != object.Object {
		return nil, "", nil // what is wrong, if anything is, the survey says
	}
	for _, err := range x.source.List(ctx, "", place.ListOptions{}) {
		if err == nil {
			x.notes = append(x.notes,
				fmt.Sprintf("%s is an object and a folder: the folder is taken, the object is not", j.Source))
			return nil, "", nil
		}
		break
	}
	return parent, name, nil
}

// takeOne makes one object the source. It lands under its own name or, with its
// folder, below the name of that.
func (s *Room) takeOne(j *job.Job, x *sides, parent place.Place, name string) (err error) {
	if j.Direction == rule.TwoWay {
		return workspace.BadInput(fmt.Errorf("%s: %s is one object; a two-way job needs a folder at either side",
			j.Name, j.Source))
	}
	x.source = gather.New(strings.TrimRight(j.Source, "/"), []gather.Item{{From: parent, Key: name, As: name}})
	x.lands = strings.TrimRight(j.Target, "/")
	if j.Landing == rule.WithFolder {
		end, at := job.SplitPlace(j.Source)
		folder := path.Base(path.Dir(at))
		if folder == "." {
			folder = end
		}
		x.lands += "/" + folder
	}
	x.target, err = s.ws.Place(context.Background(), x.lands)
	return err
}

// apart refuses two folder endpoints that lead to the same files by other names.
func (s *Room) apart(j *job.Job, x *sides) error {
	var real [2]string
	for i, at := range []string{j.Source, x.lands} {
		end, sub := job.SplitPlace(at)
		e := s.ws.Workspace().Endpoints[end]
		if !kinds.Of(e).Files {
			return nil
		}
		dir, err := filepath.EvalSymlinks(s.ws.Below(e.Path))
		if err != nil {
			return nil
		}
		real[i] = filepath.Join(dir, sub) + "/"
	}
	if strings.HasPrefix(real[0], real[1]) || strings.HasPrefix(real[1], real[0]) {
		return workspace.BadInput(fmt.Errorf("source and target of %s are the same files, or one lies in the other: "+
			"%s and %s", j.Name, real[0], real[1]))
	}
	return nil
}

// catalogPath is where the survey of something is kept.
func (s *Room) catalogPath(what string) (string, error) {
	dir := s.ws.Dir.Path("catalogs")
	h := sha256.Sum256([]byte(what))
	return filepath.Join(dir, hex.EncodeToString(h[:12])), os.MkdirAll(dir, 0o700)
}

// keptAs are the names the two sides' surveys are kept under. A survey of a
// place serves all jobs that have it; where only part of the target matters,
// it serves just these two.
func (x *sides) keptAs(j *job.Job) (source, target string) {
	source, target = strings.TrimRight(j.Source, "/"), x.lands
	if _, ok := x.source.(*gather.Place); ok {
		return oneOf(source), "landing of " + source + " at " + target
	}
	return source, target
}

// oneOf is what the survey of a source that is one object, or a tray, is kept
// under.
func oneOf(source string) string { return "one " + source }

// Freshness says which surveys a plan is made from.
type Freshness struct {
	// MaxAge is how old a kept survey may be; 0 surveys anew.
	MaxAge time.Duration
	// Prefix, when not "", surveys only what starts with it anew, and takes the
	// rest from the kept surveys, unless something here changed a place since:
	// then that is surveyed whole.
	Prefix string
	// Contents has contents compared where else size and a later time alone would tell that an object is the same.
	Contents bool
	// Keep keeps copies of both surveys until the run of the plan is proven: see [ProveOptions].
	Keep bool
}

// survey lists both sides of a job at once, or takes the kept surveys. The
// numbers of the plans and proofs made from them are the caller's alone until
// close.
func (s *Room) survey(ctx context.Context, j *job.Job, a *Activity, fresh Freshness) (*sides, error) {
	unlock, err := s.ws.Dir.LockPlanning(j.Name)
	if err != nil {
		return nil, err
	}
	x, err := s.places(ctx, j)
	if err != nil {
		unlock()
		return nil, err
	}
	x.unlock = unlock
	for name := range EndpointsOf(j) {
		s.ws.ClearTests(ctx, name)
	}
	a.enter("surveying both sides")
	began := s.ws.Now()
	source, target := x.keptAs(j)
	group, groupCtx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		x.from, err = s.surveyOne(groupCtx, x.source, j.Source, source, &a.Source, fresh)
		a.Source.Done.Store(true)
		return err
	})
	group.Go(func() (err error) {
		part := x.target
		if g, ok := x.source.(*gather.Place); ok {
			part = g.Landing(x.target)
		}
		x.to, err = s.surveyOne(groupCtx, part, j.Target, target, &a.Target, fresh)
		a.Target.Done.Store(true)
		return err
	})
	if err := group.Wait(); err != nil {
		x.close()
		return nil, err
	}
	if x.from.Info.Absent { // a target may come into being, a source may not
		x.close()
		return nil, place.NewError(x.source.Name(), "list", "", place.NotFound, errors.New("the source is not there"))
	}
	if _, one := x.source.(*gather.Place); !one { // what was one object once is a folder now
		if path, err := s.catalogPath(oneOf(source)); err == nil {
			os.Remove(path)
		}
	}
	s.ws.Log.Info("surveyed", "job", j.Name, "source", x.from.Info.Objects, "target", x.to.Info.Objects, "took",
		s.ws.Now().Sub(began))
	return x, nil
}

// listingStreams is how many listings may be under way at a slow store.
const listingStreams = 16

// surveyOne gives a place's survey: the kept one while it is good, else a new
// one.
func (s *Room) surveyOne(ctx context.Context, p place.Place, at, keptAs string, progress *catalog.Progress,
	fresh Freshness) (*catalog.Catalog, error) {
	path, err := s.catalogPath(keptAs)
	if err != nil {
		return nil, err
	}
	opts := catalog.Options{Streams: listingStreams, Progress: progress, Now: s.ws.Now}
	if fresh.MaxAge > 0 || fresh.Prefix != "" {
		if old, err := catalog.Open(path); err == nil {
			end, _ := job.SplitPlace(at)
			still := !s.touched(ctx, end, old.Info.Began)
			good := old.Info.Complete() && s.ws.Now().Sub(old.Info.Began) <= fresh.MaxAge && still
			switch {
			case fresh.Prefix != "" && still:
				defer old.Close()
				opts.Old, opts.Prefix = old, fresh.Prefix
			case good:
				progress.Objects.Store(old.Info.Objects)
				progress.Bytes.Store(old.Info.Bytes)
				return old, nil
			default:
				old.Close()
			}
		}
	}
	c, err := catalog.Survey(ctx, p, path, opts)
	if err == nil {
		end, _ := job.SplitPlace(at)
		s.ws.Events.Publish(event.Event{Kind: event.Surveyed, Endpoint: end})
	}
	return c, err
}

// touched tells whether a run or a person here changed something at an
// endpoint since the time.
func (s *Room) touched(ctx context.Context, endpoint string, since time.Time) bool {
	runs, err := s.Runs(ctx, "", since.Add(-7*24*time.Hour), 200) // the longest that may have been under way then
	if err != nil {
		return true
	}
	for _, r := range runs {
		if !r.Ended.IsZero() && r.Ended.Before(since) {
			continue
		}
		j, err := s.ws.Job(r.Job)
		if err != nil {
			return true
		}
		to, _ := job.SplitPlace(j.Target)
		from, _ := job.SplitPlace(j.Source)
		if to == endpoint || j.Direction == rule.TwoWay && from == endpoint {
			return true
		}
	}
	db, err := s.ws.History()
	if err != nil {
		return true
	}
	acts, err := db.Acts(ctx, 100)
	if err != nil {
		return true
	}
	for _, a := range acts {
		if end, _ := job.SplitPlace(a.Place); end == endpoint && a.At.After(since) {
			return true
		}
	}
	return false
}

// keptAsOne makes one object the source where it was surveyed as that.
func (s *Room) keptAsOne(j *job.Job, x *sides) error {
	parent, name, err := s.parent(j)
	if err != nil || parent == nil {
		return err
	}
	path, err := s.catalogPath(oneOf(strings.TrimRight(j.Source, "/")))
	if err != nil {
		return err
	}
	if _, err := os.Stat(path); err != nil {
		return nil
	}
	return s.takeOne(j, x, parent, name)
}

// ErrNotSurveyed means that there is no survey yet to work from.
var ErrNotSurveyed = errors.New("not surveyed yet")

// kept opens both sides as they were surveyed last, whatever their age. Which
// of the two were never surveyed is in the error.
func (s *Room) kept(ctx context.Context, j *job.Job) (*sides, error) {
	x, err := s.folders(j)
	if err == nil {
		err = s.keptAsOne(j, x)
	}
	if err == nil {
		err = s.apart(j, x)
	}
	if err != nil {
		return nil, err
	}
	source, target := x.keptAs(j)
	var missing []string
	for _, side := range []struct {
		as, name string
		into     **catalog.Catalog
	}{{source, x.source.Name(), &x.from}, {target, x.target.Name(), &x.to}} {
		path, err := s.catalogPath(side.as)
		if err == nil {
			*side.into, err = catalog.Open(path)
		}
		if err != nil {
			missing = append(missing, side.name)
		}
	}
	if len(missing) > 0 {
		x.close()
		return nil, fmt.Errorf("%w: %s", ErrNotSurveyed, strings.Join(missing, " and "))
	}
	return x, nil
}

// Survey lists both sides of a job, or the place "endpoint/path", and returns
// what was found: the job's source and target, or the one place.
func (s *Room) Survey(ctx context.Context, what string, a *Activity) ([]catalog.Info, error) {
	if j, err := s.ws.Job(what); err == nil {
		return s.SurveyJob(ctx, j, a)
	}
	p, err := s.ws.Place(ctx, what)
	if err != nil {
		return nil, err
	}
	a.enter("surveying")
	c, err := s.surveyOne(ctx, p, what, strings.Trim(what, "/"), &a.Source, Freshness{})
	if err != nil {
		return nil, err
	}
	defer c.Close()
	return []catalog.Info{c.Info}, nil
}

// SurveyJob lists both sides of a job that need not be saved.
func (s *Room) SurveyJob(ctx context.Context, j *job.Job, a *Activity) ([]catalog.Info, error) {
	x, err := s.survey(ctx, j, a, Freshness{})
	if err != nil {
		return nil, err
	}
	defer x.close()
	return []catalog.Info{x.from.Info, x.to.Info}, nil
}
