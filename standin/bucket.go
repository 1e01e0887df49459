package standin

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/tidwall/btree"
)

// version is one state of one object, or a delete marker.
type version struct {
	Key      string
	ID       string // "null" where versioning was off
	Marker   bool   `json:",omitempty"`
	Size     int64
	ETag     string
	Modified time.Time
	Class    string            `json:",omitempty"`
	Header   map[string]string `json:",omitempty"` // Content-Type and the like
	Meta     map[string]string `json:",omitempty"`
	Sums     map[string]string `json:",omitempty"` // header name → base64
	Tags     map[string]string `json:",omitempty"`
	Body     []extent          `json:",omitempty"`
	// Snapshot is set in the Blob dialect: the time the state was kept at.
	Snapshot string `json:",omitempty"`
	// Removed is set in the Blob dialect on what was deleted and is kept.
	Removed bool `json:",omitempty"`
	// Restored is when a restore that was asked for is done, Until when its
	// copy goes away again.
	Restored time.Time `json:",omitzero"`
	Until    time.Time `json:",omitzero"`
}

// gone tells that a newest state means "not there".
func (v *version) gone() bool { return v == nil || v.Marker || v.Removed }

// cold tells that the content cannot be read at the moment.
func (v *version) cold(at time.Time) bool {
	switch v.Class {
	case "GLACIER", "DEEP_ARCHIVE", "Archive":
		return v.Restored.IsZero() || at.Before(v.Restored) || !v.Until.IsZero() && at.After(v.Until)
	}
	return false
}

// extent is a run of bytes in a file of the bucket's folder.
type extent struct {
	File   string
	Offset int64 `json:",omitempty"`
	Size   int64
}

// upload is a multipart upload under way.
type upload struct {
	ID     string
	Object version // what Complete will make, without content
	Parts  map[int]*part
}

type part struct {
	Number   int
	Size     int64
	ETag     string
	Modified time.Time
	Sums     map[string]string
	Body     []extent
}

// bucket is a bucket in memory with its journal on disk. The journal is a JSON
// line for each change, replayed at start; contents lie beside it, small ones
// together in one file.
type bucket struct {
	name, dir string
	made      time.Time

	mu         sync.RWMutex
	versioning string            // "", "Enabled", "Suspended"
	settings   map[string]string // documents of the bucket itself, as they were sent
	keys       btree.Map[string, packed]
	uploads    map[string]*upload
	serial     uint64
	timed      bool   // versions are named by times, as in the Blob dialect
	lastID     string // of those
	journal    *os.File
	pack       *os.File
	packEnd    int64
}

// change is one line of the journal; exactly one field is set.
type change struct {
	Made       *time.Time `json:",omitempty"`
	Versioning *string    `json:",omitempty"`
	Setting    *[2]string `json:",omitempty"` // name, document; "" takes it out
	Put        *version   `json:",omitempty"`
	Drop       *[2]string `json:",omitempty"` // key, version ID
	Begin      *upload    `json:",omitempty"`
	Part       *partOf    `json:",omitempty"`
	End        *string    `json:",omitempty"` // upload ID
	Revise     *version   `json:",omitempty"` // another description of the same state
}

type partOf struct {
	Upload string
	Part   part
}

const packName = "small"

// versionTime is how the Blob API writes the times that name versions and snapshots.
const versionTime = "2006-01-02T15:04:05.0000000Z"

func openBucket(dir, name string, timed bool) (*bucket, error) {
	b := &bucket{name: name, timed: timed, dir: filepath.Join(dir, name), made: time.Now().UTC(),
		uploads: map[string]*upload{}, settings: map[string]string{}}
	if err := os.MkdirAll(b.dir, 0o755); err != nil {
		return nil, err
	}
	var err error
	if b.journal, err = os.OpenFile(filepath.Join(b.dir, "journal"), os.O_RDWR|os.O_CREATE|os.O_APPEND,
		0o644); err != nil {
		return nil, err
	}
	if b.pack, err = os.OpenFile(filepath.Join(b.dir, packName), os.O_RDWR|os.O_CREATE, 0o644); err != nil {
		return nil, err
	}
	info, err := b.pack.Stat()
	if err != nil {
		return nil, err
	}
	b.packEnd = info.Size()
	lines, fresh := json.NewDecoder(b.journal), true
	for {
		var c change
		if err := lines.Decode(&c); err != nil {
			break // the end, or a last line cut short
		}
		b.apply(c)
		fresh = false
	}
	if fresh {
		return b, b.record(change{Made: &b.made})
	}
	return b, nil
}

func (b *bucket) close() error {
	b.pack.Close()
	return b.journal.Close()
}

// commit writes a change down and makes it so. The caller holds the lock.
func (b *bucket) commit(c change) error {
	if err := b.record(c); err != nil {
		return err
	}
	b.apply(c)
	return nil
}

func (b *bucket) record(c change) error {
	line, err := json.Marshal(c)
	if err == nil {
		_, err = b.journal.Write(append(line, '\n'))
	}
	return err
}

func (b *bucket) apply(c change) {
	b.serial++
	switch {
	case c.Made != nil:
		b.made = *c.Made
	case c.Versioning != nil:
		b.versioning = *c.Versioning
	case c.Setting != nil:
		b.settings[c.Setting[0]] = c.Setting[1]
	case c.Put != nil:
		b.put(c.Put)
	case c.Drop != nil:
		b.drop(c.Drop[0], c.Drop[1])
	case c.Begin != nil:
		c.Begin.Parts = map[int]*part{}
		b.uploads[c.Begin.ID] = c.Begin
	case c.Part != nil:
		if up := b.uploads[c.Part.Upload]; up != nil {
			up.Parts[c.Part.Part.Number] = &c.Part.Part
		}
	case c.End != nil:
		delete(b.uploads, *c.End)
	case c.Revise != nil:
		b.replace(c.Revise)
	}
}

// stack is the versions of a key, newest first; none for a key there is not.
func (b *bucket) stack(key string) []*version {
	p, _ := b.keys.Get(key)
	return p.unpack(key, false)
}

// put lays a version on top of its key's others; a "null" one replaces its like.
func (b *bucket) put(v *version) {
	stack := b.stack(v.Key)
	if v.Snapshot != "" { // behind the blob it was taken of
		b.keys.Set(v.Key, pack(slices.Insert(stack, 1, v)))
		return
	}
	if v.ID == "null" {
		stack = without(stack, "null")
	}
	b.keys.Set(v.Key, pack(append([]*version{v}, stack...)))
}

// replace gives the version of the same key and ID another description.
func (b *bucket) replace(now *version) {
	stack := b.stack(now.Key)
	for i, v := range stack {
		if v.ID == now.ID {
			stack[i] = now
			b.keys.Set(now.Key, pack(stack))
			return
		}
	}
}

func (b *bucket) drop(key, id string) {
	if stack := without(b.stack(key), id); len(stack) == 0 {
		b.keys.Delete(key)
	} else {
		b.keys.Set(key, pack(stack))
	}
}

func without(stack []*version, id string) []*version {
	var kept []*version
	for _, v := range stack {
		if v.ID != id {
			kept = append(kept, v)
		}
	}
	return kept
}

// find is the version with the ID, or the newest for "". nil if there is none.
func (b *bucket) find(key, id string) *version {
	for _, v := range b.stack(key) {
		if id == "" || v.ID == id {
			return v
		}
	}
	return nil
}

// nextID names a new version: "null" unless versioning is on.
func (b *bucket) nextID() string {
	if b.versioning != "Enabled" {
		return "null"
	}
	if b.timed {
		for { // until the clock has gone on
			if id := time.Now().UTC().Format(versionTime); id > b.lastID {
				b.lastID = id
				return id
			}
		}
	}
	// Newer IDs sort first, as in listings.
	return fmt.Sprintf("%016x%06x", ^uint64(time.Now().UnixNano()), b.serial&0xffffff)
}

// release gives the content's own files back to the disk.
func (b *bucket) release(body []extent) {
	for _, x := range body {
		if x.File != packName {
			os.Remove(filepath.Join(b.dir, x.File))
		}
	}
}

func (b *bucket) newFile() (*os.File, string, error) {
	name := "body-" + strconv.FormatInt(time.Now().UnixNano(), 36) + "-"
	f, err := os.CreateTemp(b.dir, name+"*")
	if err != nil {
		return nil, "", err
	}
	return f, filepath.Base(f.Name()), nil
}

// packed appends a small content to the shared file.
func (b *bucket) packed(data []byte) ([]extent, error) {
	if len(data) == 0 {
		return nil, nil
	}
	b.mu.Lock()
	at := b.packEnd
	b.packEnd += int64(len(data))
	b.mu.Unlock()
	_, err := b.pack.WriteAt(data, at)
	return []extent{{packName, at, int64(len(data))}}, err
}
