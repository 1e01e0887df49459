package browse

import (
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"lumtra/core/atomicfile"
	"lumtra/core/job"
	"lumtra/core/place/kinds"
	"lumtra/service/workspace"
)

// Tray is what was put into the tray, in that order.
func (s *Browser) Tray() ([]workspace.At, error) {
	raw, err := os.ReadFile(s.trayPath())
	if errors.Is(err, os.ErrNotExist) {
		return nil, nil
	}
	var items []workspace.At
	if err == nil {
		err = json.Unmarshal(raw, &items)
	}
	if err != nil {
		return nil, fmt.Errorf("the tray: %w", err)
	}
	return items, nil
}

func (s *Browser) trayPath() string { return s.ws.Dir.Path("tray.json") }

// SetTray replaces what is in the tray.
func (s *Browser) SetTray(items []workspace.At) error {
	if err := atomicfile.WriteJSON(s.trayPath(), items); err != nil {
		return fmt.Errorf("the tray: %w", err)
	}
	return nil
}

// Toggle puts things into the tray, or takes them out if they all are in it. A
// thing that lies in a folder of the tray is in it already.
func (s *Browser) Toggle(picks []workspace.At) error {
	items, err := s.Tray()
	if err != nil {
		return err
	}
	var fresh []workspace.At
	for _, a := range picks {
		if s.ws.AtTop(a) {
			return workspace.BadInput(errors.New("an endpoint does not go into the tray: put its buckets there"))
		}
		if !slices.Contains(items, a) {
			fresh = append(fresh, a)
		}
	}
	if len(fresh) == 0 {
		return s.SetTray(slices.DeleteFunc(items, func(a workspace.At) bool { return slices.Contains(picks, a) }))
	}
	return s.SetTray(append(items, fresh...))
}

// Drop makes a job of the tray and the folder it is dropped on, and returns the
// job's name. The tray is empty then; the job stays, to be planned and run as
// any.
func (s *Browser) Drop(to workspace.At) (string, error) {
	items, err := s.Tray()
	if err != nil {
		return "", err
	}
	if len(items) == 0 {
		return "", workspace.BadInput(errors.New("the tray is empty: t puts things into it"))
	}
	name, err := s.Bring(workspace.FromTray, &workspace.Drop{Items: items, Target: to})
	if err != nil {
		return "", err
	}
	return name, s.SetTray(nil)
}

// Bring makes a job of things and the folder that they are brought to, and returns its name,
// which starts with from. The job is planned and run as any.
func (s *Browser) Bring(from string, d *workspace.Drop) (string, error) {
	to := d.Target
	e := s.ws.Workspace().Endpoints[to.Endpoint]
	switch {
	case kinds.Of(e).ReadOnly:
		return "", workspace.BadInput(errors.New("nothing can be written there"))
	case s.ws.AtTop(to):
		return "", workspace.BadInput(errors.New("bring it to a bucket, or to a folder in one"))
	case to.Key != "" && !strings.HasSuffix(to.Key, "/"):
		return "", workspace.BadInput(errors.New("bring it to a folder"))
	}
	if _, path := job.SplitPlace(to.Text()); path+"/" != strings.TrimPrefix(to.Bucket+"/"+to.Key, "/") &&
		to.Bucket+to.Key != "" && path != to.Bucket {
		return "", workspace.BadInput(errors.New("plans cannot name a folder whose name starts or ends with an " +
			"empty part"))
	}
	for i, lands := range d.Lands() {
		a := d.Items[i]
		if a == lands {
			return "", workspace.BadInput(fmt.Errorf("%s lies there already", a))
		}
		if a.Endpoint == to.Endpoint && a.Bucket == to.Bucket && a.Pick().Covers(lands.Key) {
			return "", workspace.BadInput(fmt.Errorf("%s would land inside itself", a))
		}
	}
	name, err := s.ws.KeepDrop(from, d)
	if err != nil {
		return "", fmt.Errorf("what is brought: %w", err)
	}
	return name, nil
}
