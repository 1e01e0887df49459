package transfer

import (
	"context"
	"iter"
	"strings"

	"lumtra/core/ledger"
	"lumtra/core/object"
	"lumtra/core/pack"
	"lumtra/core/place"
	"lumtra/core/rule"
)

// mostShared is how many files with several names are remembered, so that the others are packed as
// links; further ones are packed as files of their own.
const mostShared = 100_000

// file takes what the file system keeps of a file that is packed, as far as it can be found out.
func (y *ready) file(ctx context.Context, d place.Describer, key string) {
	f, err := d.Describe(ctx, key)
	if err != nil || f.Folder || f.Link != "" || f.Special { // another by now: reading it will tell
		return
	}
	y.m.Mode, y.m.UID, y.m.GID, y.m.User, y.m.Group = f.Mode, f.UID, f.GID, f.User, f.Group
	y.inode, y.m.Sparse = f.Inode, f.Sparse
	y.m.Shared = f.Inode != [2]uint64{}
}

// beside packs what a plan has no effects for: the folders of the source, with the empty ones, and its
// links. Where a job selects by name, folders are those that something selected lies in, and links
// those that are selected.
type beside struct {
	x    *packing
	d    place.Describer
	next func() (string, error, bool)
	stop func()
	// at is what comes next, "" at the end; read tells that it was looked for.
	at     string
	read   bool
	match  *rule.Matcher
	picks  bool
	parked []string // folders whose turn has come, should something lie in them
}

// beside begins with the source's first.
func (x *packing) beside() *beside {
	b := &beside{x: x, stop: func() {}, read: true}
	if b.d = place.Can(x.run.sides[0].from).Describes; b.d == nil || x.only != nil || !x.of.every && !x.of.new {
		return b
	}
	sel := x.run.rules.Select
	b.picks = len(sel.Include)+len(sel.Exclude) > 0
	var err error
	if b.match, err = sel.Compile(x.p.Info.Made); err != nil {
		return b // a plan was made by it
	}
	all := b.d.Beside(x.run.ctx, "")
	if !x.of.every {
		all = func(yield func(string, error) bool) {
			for _, key := range x.of.beside {
				if !yield(key, nil) {
					return
				}
			}
		}
	}
	b.next, b.stop = iter.Pull2(all)
	b.read = false
	return b
}

// until packs what comes before a key; all that is left for "".
func (b *beside) until(key string) error {
	for {
		if !b.read {
			at, err, ok := b.next()
			if b.at, b.read = at, true; !ok {
				b.at = ""
			} else if err != nil { // a folder that cannot be read, as the survey has told
				b.at, b.read = "", false
				continue
			}
		}
		if b.at == "" || key != "" && b.at > key {
			break
		}
		at := b.at
		b.read = false
		if strings.HasSuffix(at, "/") && b.picks {
			b.parked = append(b.parked, at)
			continue
		}
		if err := b.put(at); err != nil {
			return err
		}
	}
	for _, folder := range b.parked {
		if key != "" && strings.HasPrefix(key, folder) {
			if err := b.put(folder); err != nil {
				return err
			}
		}
	}
	b.parked = nil
	return nil
}

// dropBeside marks folders and links as gone that the source has no more, for a job that mirrors all of
// it: plans have no effects for them.
func (x *packing) dropBeside() error {
	d, sel := place.Can(x.run.sides[0].from).Describes, x.run.rules.Select
	if d == nil || x.old == nil || x.only != nil || x.what&removing == 0 ||
		x.run.rules.TargetOnly != rule.DeleteThere ||
		len(x.failed) > 0 || x.run.heldBack() > 0 || len(sel.Include)+len(sel.Exclude) > 0 {
		return nil
	}
	for m, err := range x.old.Walk(x.run.ctx, x.folder, false) {
		if err != nil {
			return err
		}
		if m.Kind != pack.Folder && m.Kind != pack.Symlink {
			continue
		}
		_, err := d.Describe(x.run.ctx, strings.TrimPrefix(m.Name, x.folder))
		if place.KindOf(err) != place.NotFound || err == nil {
			continue
		}
		if err := x.w.Drop(m.Name); err != nil {
			return err
		}
	}
	return nil
}

// put packs a folder or a link, where the pack does not have it as it is.
func (b *beside) put(key string) error {
	if b.picks && !strings.HasSuffix(key, "/") {
		if taken, _ := b.match.TakesName(&object.Entry{Key: key, Kind: object.Special}); !taken {
			return nil
		}
	}
	f, err := b.d.Describe(b.x.run.ctx, key)
	if err != nil || f.Folder != strings.HasSuffix(key, "/") || !f.Folder && f.Link == "" {
		return nil // it is gone, or another, since
	}
	m := besideMember(b.x.folder+key, &f)
	if pack.CheckName(m.Name) != nil {
		return nil
	}
	if b.x.old != nil {
		was, err := b.x.old.Find(b.x.run.ctx, m.Name)
		if err == nil && was.Kind == m.Kind && was.Mode == m.Mode && was.Link == m.Link && was.UID == m.UID &&
			was.GID == m.GID && (f.Folder || was.Modified.Equal(m.Modified)) {
			return nil
		}
		if err != nil && place.KindOf(err) != place.NotFound {
			return err
		}
	}
	if f.Folder && b.x.run.rules.Packs.Attributes {
		if m.Attributes, err = b.d.Attributes(b.x.run.ctx, key); err != nil {
			return nil // it is gone, or closed, since
		}
		if bad := pack.CheckAttributes(m.Attributes); bad != nil { // the folder itself is kept
			b.x.run.meter.problem(ledger.NoEffect, key, "extended attributes of a folder were not kept",
				"leave attributes out of the job's [packs], or take them from the folder", bad.Error())
			m.Attributes = nil
		}
	}
	_, err = b.x.w.Add(m, nil)
	return err
}

// besideMember is a folder or a link as a member of a name.
func besideMember(name string, f *place.File) pack.Member {
	m := pack.Member{Name: name, Kind: pack.Symlink, Modified: f.Modified, Mode: f.Mode, UID: f.UID, GID: f.GID,
		User: f.User, Group: f.Group, Link: f.Link}
	if f.Folder {
		m.Kind = pack.Folder
	}
	return m
}
