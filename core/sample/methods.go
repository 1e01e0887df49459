package sample

import (
	"bytes"
	"io"

	"github.com/dsnet/compress/bzip2"
	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/pierrec/lz4/v4"
	"github.com/ulikunitz/xz"

	"lumtra/core/pack"
)

// Method is a way to compress.
type Method struct {
	// Name is as people say it: "zstd 3".
	Name string
	// Form and Level are what packs are made with; Form is "" for what is only shown for comparison.
	Form  pack.Form
	Level int

	pack   func(dst io.Writer, data []byte) error
	unpack func(src io.Reader) (io.ReadCloser, error)
}

// Methods are all that are tried.
func Methods() []Method {
	all := []Method{{Name: "none", Form: pack.Plain, pack: func(w io.Writer, data []byte) error {
		_, err := w.Write(data)
		return err
	}, unpack: func(r io.Reader) (io.ReadCloser, error) { return io.NopCloser(r), nil }}}
	all = append(all, Method{Name: "lz4", pack: func(w io.Writer, data []byte) error {
		return through(lz4.NewWriter(w), data)
	}, unpack: func(r io.Reader) (io.ReadCloser, error) { return io.NopCloser(lz4.NewReader(r)), nil }})
	for _, level := range []int{1, 3, 7, 11} {
		all = append(all, zstdMethod(level))
	}
	for _, level := range []int{1, 6, 9} {
		all = append(all, gzipMethod(level))
	}
	return append(all, Method{Name: "bzip2", pack: func(w io.Writer, data []byte) error {
		z, err := bzip2.NewWriter(w, nil)
		if err != nil {
			return err
		}
		return through(z, data)
	}, unpack: func(r io.Reader) (io.ReadCloser, error) { return bzip2.NewReader(r, nil) }},
		Method{Name: "xz", pack: func(w io.Writer, data []byte) error {
			z, err := xz.NewWriter(w)
			if err != nil {
				return err
			}
			return through(z, data)
		}, unpack: func(r io.Reader) (io.ReadCloser, error) {
			z, err := xz.NewReader(r)
			return io.NopCloser(z), err
		}})
}

func through(w io.WriteCloser, data []byte) error {
	if _, err := w.Write(data); err != nil {
		return err
	}
	return w.Close()
}

var zstdNames = map[int]string{1: "zstd 1", 3: "zstd 3", 7: "zstd 7", 11: "zstd 11"}

func zstdMethod(level int) Method {
	return Method{Name: zstdNames[level], Form: pack.Zstd, Level: level, pack: func(w io.Writer, data []byte) error {
		out, err := pack.Zstd.Frame(nil, data, level)
		if err == nil {
			_, err = w.Write(out)
		}
		return err
	}, unpack: func(r io.Reader) (io.ReadCloser, error) {
		d, err := zstd.NewReader(r, zstd.WithDecoderConcurrency(1))
		if err != nil {
			return nil, err
		}
		return d.IOReadCloser(), nil
	}}
}

var gzipNames = map[int]string{1: "gzip 1", 6: "gzip 6", 9: "gzip 9"}

func gzipMethod(level int) Method {
	return Method{Name: gzipNames[level], Form: pack.Gzip, Level: level, pack: func(w io.Writer, data []byte) error {
		out, err := pack.Gzip.Frame(nil, data, level)
		if err == nil {
			_, err = w.Write(out)
		}
		return err
	}, unpack: func(r io.Reader) (io.ReadCloser, error) {
		var all bytes.Buffer
		if _, err := io.Copy(&all, r); err != nil {
			return nil, err
		}
		z, err := gzip.NewReader(&all)
		if err != nil {
			return nil, err
		}
		return z, nil
	}}
}
