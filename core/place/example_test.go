package place_test

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	"lumtra/core/object"
	"lumtra/core/place"
	"lumtra/core/place/folder"
)

// Every place lists, reads, writes and removes by the same few methods. What is written
// "only if absent" never takes the place of anything.
func Example() {
	ctx := context.Background()
	dir, _ := os.MkdirTemp("", "saltmarsh-")
	defer os.RemoveAll(dir)
	end, err := folder.OpenEndpoint("studio", dir, folder.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	defer end.Close()
	p, _ := end.Open("masters")
	for _, text := range []string{"redshank", "curlew"} {
		_, err := p.Write(ctx, "weir/dawn.wav", strings.NewReader(text), int64(len(text)),
			place.WriteOptions{Condition: place.IfAbsent})
		fmt.Println(text, place.KindOf(err) == place.Exists)
	}
	for e, err := range p.List(ctx, "", place.ListOptions{}) {
		fmt.Println(e.Key, e.Size, err)
	}
	r, _, _ := p.Read(ctx, "weir/dawn.wav", place.ReadOptions{})
	content, _ := io.ReadAll(r)
	r.Close()
	fmt.Println(string(content))
	fmt.Println(p.Remove(ctx, object.Ref{Key: "weir/dawn.wav"})[0])
	// Output:
	// redshank false
	// curlew true
	// weir/dawn.wav 8 <nil>
	// redshank
	// <nil>
}
