package workspace

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"os"
	slash "path"
	"path/filepath"
	"slices"
	"strings"

	"lumtra/core/handle"
	"lumtra/core/nearest"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/place/kind"
	"lumtra/core/place/kinds"
)

// Local names the file or folder at a path of this machine, relative to the working folder.
// Links on the way to it are followed, as far as it is there: a run itself follows none.
func Local(path string) (At, error) {
	path, err := filepath.Abs(path)
	if err != nil {
		return At{}, BadInput(err)
	}
	there, missing := path, ""
	for {
		real, err := filepath.EvalSymlinks(there)
		if err == nil {
			path = filepath.Join(real, missing)
			break
		}
		if !errors.Is(err, os.ErrNotExist) || there == "/" {
			return At{}, BadInput(err)
		}
		there, missing = filepath.Dir(there), filepath.Join(filepath.Base(there), missing)
	}
	a := At{Endpoint: kind.Local, Key: strings.TrimPrefix(path, "/")}
	if info, err := os.Stat(path); err == nil && info.IsDir() && a.Key != "" {
		a.Key += "/"
	}
	if file, folder, ok := pack.Split(a.Key); ok {
		a.Bucket, a.Key = file+pack.Inside, folder
	}
	return a, nil
}

// LocalThere is Local of something that has to be there.
func (s *Keeper) LocalThere(path string) (At, error) {
	if _, err := os.Stat(path); err != nil {
		return At{}, BadInput(fmt.Errorf("there is no file or folder %s that can be read", object.Display(path)))
	}
	return Local(path)
}

// At names something by its parts, so that no key, whatever bytes it is made
// of, can be taken for another.
type At struct {
	Endpoint string `json:"endpoint"`
	// Bucket is "" at endpoints without buckets, and at the top of those with. Of what is in a pack it is
	// all that leads into that, as "archive/2031/takes.tar.zst!": see [At.Inside].
	Bucket string `json:"bucket,omitempty"`
	// Key is an object's, a prefix that ends in "/", or "" for the top.
	Key string `json:"key,omitempty"`
}

// String is "endpoint/bucket/key", safe to show.
func (a At) String() string {
	s := a.Endpoint
	if a.Bucket != "" {
		s += "/" + a.Bucket
	}
	if a.Key != "" {
		s += "/" + a.Key
	}
	return object.Display(s)
}

// Pick is what a names, for handling.
func (a At) Pick() handle.Pick {
	return handle.Pick{Key: a.Key, Prefix: a.Key == "" || strings.HasSuffix(a.Key, "/")}
}

// AtTop tells that a names an endpoint and its level is made of buckets.
func (s *Keeper) AtTop(a At) bool {
	e := s.Workspace().Endpoints[a.Endpoint]
	return kinds.Of(e).Buckets && a.Bucket == ""
}

// Inside is the top of what is in a pack; false where a's name is not that of one.
func (a At) Inside() (At, bool) {
	if _, ok := pack.FormOf(a.Key); !ok {
		return At{}, false
	}
	return At{Endpoint: a.Endpoint, Bucket: strings.TrimPrefix(a.Bucket+"/"+a.Key, "/") + pack.Inside}, true
}

// PackOf is the pack that something lies in; false where it lies in none.
func (s *Keeper) PackOf(a At) (At, bool) {
	file, ok := strings.CutSuffix(a.Bucket, pack.Inside)
	if !ok {
		return At{}, false
	}
	in := At{Endpoint: a.Endpoint, Key: file}
	if e := s.Workspace().Endpoints[a.Endpoint]; kinds.Of(e).Buckets {
		in.Bucket, in.Key, _ = strings.Cut(file, "/")
	}
	return in, true
}

// openIn opens a path of an endpoint, or the inside of a pack.
func (s *Keeper) openIn(end place.Endpoint, path string) (place.Place, error) {
	file, folder, ok := pack.Split(path)
	if !ok {
		return end.Open(path)
	}
	dir, key := slash.Split(file)
	outer, err := end.Open(strings.TrimSuffix(dir, "/"))
	if err != nil {
		return nil, err
	}
	keeping := pack.Keeping{Dir: string(s.Dir), Index: func(key string) string {
		return s.Dir.Path("catalogs", fmt.Sprintf("pack-%x", sha256.Sum256([]byte(outer.Name()+"/"+key))))
	}}
	if pack.IsSet(key) {
		loose := outer
		if folder != "" {
			if loose, err = end.Open(slash.Join(dir, folder)); err != nil {
				return nil, err
			}
		}
		return pack.NewSet(outer, strings.TrimPrefix(key, pack.Each), loose, folder, keeping), nil
	}
	in := pack.In(outer, key, folder)
	in.Keep(keeping)
	return in, nil
}

// Root opens the place that a's key is relative to: the bucket, the folder, or a pack.
func (s *Keeper) Root(a At) (place.Place, error) {
	end, err := s.Endpoint(a.Endpoint)
	if err != nil {
		return nil, err
	}
	if s.AtTop(a) {
		return nil, BadInput(errors.New("this is not in a bucket"))
	}
	return s.openIn(end, a.Bucket)
}

// noEndpoint says that there is no endpoint of a name, and which may be meant.
func (s *Keeper) noEndpoint(name string) error {
	if name == "." || name == ".." || name == "~" {
		return errors.New("a path of this machine begins with \"/\"")
	}
	return fmt.Errorf("there is no endpoint %q%s", name, nearest.Hint(name, s.EndpointNames()))
}

// AtOf reads "endpoint/bucket/key" as people type it, or the absolute path of something on
// this machine.
func (s *Keeper) AtOf(text string) (At, error) {
	if text == "" { // which is not "/", all of this machine
		return At{}, BadInput(errors.New("the name of a place is empty"))
	}
	name, rest, _ := strings.Cut(text, "/")
	e := s.Workspace().Endpoints[name]
	if e == nil {
		return At{}, BadInput(s.noEndpoint(name))
	}
	a := At{Endpoint: name, Key: rest}
	if file, folder, ok := pack.Split(rest); ok {
		a.Bucket, a.Key = file+pack.Inside, folder
		if strings.HasSuffix(rest, "/") && folder != "" {
			a.Key += "/"
		}
		return a, nil
	}
	if kinds.Of(e).Buckets {
		a.Bucket, a.Key, _ = strings.Cut(rest, "/")
	}
	return a, nil
}

// Text is a as jobs write it.
func (a At) Text() string {
	if a.Endpoint == kind.Local {
		return "/" + strings.TrimRight(strings.TrimPrefix(a.Bucket+"/"+a.Key, "/"), "/")
	}
	return strings.TrimRight(strings.Join(slices.DeleteFunc([]string{a.Endpoint, a.Bucket, a.Key},
		func(s string) bool { return s == "" }), "/"), "/")
}
