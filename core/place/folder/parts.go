package folder

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"slices"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"lumtra/core/object"
	"lumtra/core/place"
)

// A big file is written in parts into one temporary file beside the target,
// each part at its offset; a small log beside it tells which parts are whole.
// One line a part, "number offset size crc64nvme-in-hex", appended in a single
// write after the part's bytes, so that a killed run finds what was finished.
// The first line is the key, quoted.

func partFiles(f *Folder, up place.Upload) (data, log string) {
	stem := path.Join(path.Dir(f.path(up.Key)), ours+up.ID)
	return stem + ".part", stem + ".parts"
}

// Begin makes the temporary file and its log.
func (f *Folder) Begin(ctx context.Context, key string, opts place.WriteOptions) (place.Upload, error) {
	if err := f.CheckName(key); err != nil {
		return place.Upload{}, err
	}
	up := place.Upload{Key: key, ID: rand.Text()[:16], Begun: time.Now()}
	data, log := partFiles(f, up)
	t, err := f.create(key, path.Base(data), os.O_EXCL)
	if err != nil {
		return up, f.fail("begin", key, err)
	}
	t.landed = true // it stays, under this name for now
	t.close()
	if err := f.end.root.WriteFile(log, []byte(fmt.Sprintf("%q\n", key)), 0o666); err != nil {
		f.end.root.Remove(data)
		return up, f.fail("begin", key, err)
	}
	return up, nil
}

// WritePart writes the part in its place and notes it in the log.
func (f *Folder) WritePart(ctx context.Context, up place.Upload, number int, offset int64, body io.Reader, size int64,
	sum object.Sum) (place.Part, error) {
	no := func(err error) (place.Part, error) { return place.Part{}, f.fail("write part", up.Key, err) }
	data, log := partFiles(f, up)
	file, err := f.end.root.OpenFile(data, os.O_WRONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		return no(err)
	}
	defer file.Close()
	sums, err := f.fill(ctx, up.Key, io.NewOffsetWriter(file, offset), body, size, sum)
	if err != nil {
		return no(err)
	}
	if err := f.end.settle(file); err != nil {
		return no(err)
	}
	if err := file.Close(); err != nil {
		return no(err)
	}
	notes, err := f.end.root.OpenFile(log, os.O_WRONLY|os.O_APPEND|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		return no(err)
	}
	defer notes.Close()
	if _, err := fmt.Fprintf(notes, "%d %d %d %s\n", number, offset, size, sums[0].Hex()); err != nil {
		return no(err)
	}
	return place.Part{Number: number, Size: size, ETag: sums[0].Hex(), Sum: sums[0]}, nil
}

// Parts reads the log.
func (f *Folder) Parts(ctx context.Context, up place.Upload) ([]place.Part, error) {
	parts, err := f.readLog(up)
	return parts, f.fail("list parts", up.Key, err)
}

func (f *Folder) readLog(up place.Upload) ([]place.Part, error) {
	_, log := partFiles(f, up)
	raw, err := f.end.root.ReadFile(log)
	if err != nil {
		return nil, err
	}
	byNumber := map[int]place.Part{}
	lines := bufio.NewScanner(bytes.NewReader(raw))
	for lines.Scan() {
		var p place.Part
		var offset int64
		var crc string
		if n, _ := fmt.Sscanf(lines.Text(), "%d %d %d %s", &p.Number, &offset, &p.Size, &crc); n != 4 {
			continue // the key, or a line cut short by a crash
		}
		value, err := hex.DecodeString(crc)
		if err != nil || len(value) != 8 {
			continue
		}
		p.ETag, p.Sum = crc, object.Sum{Kind: object.CRC64NVME, Value: string(value)}
		byNumber[p.Number] = p
	}
	parts := make([]place.Part, 0, len(byNumber))
	for _, p := range byNumber {
		parts = append(parts, p)
	}
	slices.SortFunc(parts, func(a, b place.Part) int { return a.Number - b.Number })
	return parts, nil
}

// Finish checks that the parts given are the parts written and that they fill
// the file, then gives it its name.
func (f *Folder) Finish(ctx context.Context, up place.Upload, parts []place.Part,
	opts place.WriteOptions) (object.Entry, error) {
	no := func(err error) (object.Entry, error) { return object.Entry{}, f.fail("finish", up.Key, err) }
	written, err := f.readLog(up)
	if err != nil {
		return no(err)
	}
	data, log := partFiles(f, up)
	d, err := f.end.dir(path.Dir(data), false)
	if err != nil {
		return no(err)
	}
	file, err := d.root.OpenFile(path.Base(data), os.O_WRONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if err != nil {
		d.done()
		return no(err)
	}
	t := &temp{dir: d, name: path.Base(data), file: file}
	defer func() {
		t.landed = true // the parts stay, for another try or to be aborted
		t.close()
	}()
	info, err := file.Stat()
	if err != nil {
		return no(err)
	}
	var size int64
	whole := object.SumOf(object.CRC64NVME, object.CRC64NVME.New())
	for _, p := range parts {
		i, found := slices.BinarySearchFunc(written, p.Number, func(w place.Part, n int) int { return w.Number - n })
		if !found || written[i].ETag != p.ETag || written[i].Size != p.Size {
			return no(place.NewError(f.name, "finish", up.Key, place.Corrupt,
				fmt.Errorf("part %d is not the one that was written", p.Number)))
		}
		whole = object.CombineCRC64(whole, p.Sum, p.Size)
		size += p.Size
	}
	if info.Size() != size {
		return no(place.NewError(f.name, "finish", up.Key, place.Corrupt,
			fmt.Errorf("the parts make %d bytes, the file has %d", size, info.Size())))
	}
	if opts.Sum.Kind == object.CRC64NVME && opts.Sum != whole {
		return no(place.NewError(f.name, "finish", up.Key, place.Corrupt,
			fmt.Errorf("%s, expected %s", whole, opts.Sum)))
	}
	e, err := f.land(up.Key, t, opts)
	if err != nil {
		return no(err)
	}
	e.Sums = []object.Sum{whole}
	return e, f.fail("finish", up.Key, f.end.root.Remove(log))
}

// Abort removes the temporary file and its log.
func (f *Folder) Abort(ctx context.Context, up place.Upload) error {
	data, log := partFiles(f, up)
	for _, name := range []string{data, log} {
		if err := f.end.root.Remove(name); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return f.fail("abort", up.Key, err)
		}
	}
	return nil
}

// Uploads finds the logs of unfinished uploads. It walks the whole tree.
func (f *Folder) Uploads(ctx context.Context) ([]place.Upload, error) {
	var found []place.Upload
	err := fs.WalkDir(f.end.root.FS(), f.base, func(name string, d fs.DirEntry, err error) error {
		base := path.Base(name)
		id, isLog := strings.CutSuffix(base, ".parts")
		if err != nil || !isLog || !strings.HasPrefix(base, ours) {
			return ctx.Err() // what cannot be read holds nothing of ours
		}
		raw, err := f.end.root.ReadFile(name)
		if err != nil {
			return err
		}
		up := place.Upload{ID: strings.TrimPrefix(id, ours)}
		if n, _ := fmt.Sscanf(string(raw), "%q", &up.Key); n == 1 {
			if info, err := d.Info(); err == nil {
				up.Begun = info.ModTime()
			}
			found = append(found, up)
		}
		return nil
	})
	return found, f.fail("list uploads", "", err)
}
