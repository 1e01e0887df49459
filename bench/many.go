package main

import (
	"bytes"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"lumtra/core/object"
	"lumtra/standin"
)

// manyObjects is a store that holds so many small objects and keeps none: it makes
// each up from its key when it is asked for it.
type manyObjects int

func (n manyObjects) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	query := r.URL.Query()
	if query.Has("list-type") {
		n.list(w, query.Get("continuation-token"))
		return
	}
	_, key, _ := strings.Cut(strings.TrimPrefix(r.URL.Path, "/"), "/")
	body := []byte("tile " + key)
	h := object.CRC64NVME.New()
	h.Write(body)
	w.Header().Set("ETag", `"`+key[len(key)-8:]+`"`)
	w.Header().Set("X-Amz-Checksum-Crc64nvme", object.SumOf(object.CRC64NVME, h).Base64())
	w.Header().Set("Content-Length", strconv.Itoa(len(body)))
	w.Write(body)
}

func (n manyObjects) list(w http.ResponseWriter, token string) {
	from, _ := strconv.Atoi(token)
	var b bytes.Buffer
	b.WriteString("<ListBucketResult>")
	to := min(from+1000, int(n))
	for i := from; i < to; i++ {
		fmt.Fprintf(&b, `<Contents><Key>tiles/%08d</Key><LastModified>2026-01-02T03:04:05.000Z</LastModified><ETag>`+
			`&quot;%08d&quot;</ETag><Size>19</Size></Contents>`, i, i)
	}
	fmt.Fprintf(&b, "<IsTruncated>%t</IsTruncated>", to < int(n))
	if to < int(n) {
		fmt.Fprintf(&b, "<NextContinuationToken>%d</NextContinuationToken>", to)
	}
	b.WriteString("</ListBucketResult>")
	w.Write(b.Bytes())
}

// measureMany runs a job over many small objects, from a store that makes them up to
// one that forgets them, and tells the most memory the program ever had.
func measureMany(dir, program string, objects int) error {
	source := httptest.NewServer(manyObjects(objects))
	defer source.Close()
	srv, err := standin.New(standin.Config{Dir: filepath.Join(dir, "store"), Public: true,
		Habits: []standin.Habit{standin.Forgets}})
	if err != nil {
		return err
	}
	defer srv.Close()
	target, err := srv.Start("127.0.0.1:0")
	if err != nil {
		return err
	}
	req, err := http.NewRequest(http.MethodPut, target+"/archive", nil)
	if err != nil {
		return err
	}
	if _, err := http.DefaultClient.Do(req); err != nil {
		return err
	}
	work := filepath.Join(dir, "work")
	err = errors.Join(os.MkdirAll(filepath.Join(work, "jobs"), 0o755),
		os.WriteFile(filepath.Join(work, "endpoints.toml"),
			fmt.Appendf(nil,
				"title = \"Bench\"\n[endpoint.from]\nkind = \"s3\"\naddress = %q\n[endpoint.to]\nkind = "+
					"\"s3\"\naddress = %q\ntest = \"never\"\n", source.URL, target), 0o644),
		os.WriteFile(filepath.Join(work, "jobs", "many.toml"),
			[]byte("source = \"from/made\"\ntarget = \"to/archive\"\n[limits]\nstreams = 16\n"), 0o644))
	if err != nil {
		return err
	}
	// What is forgotten cannot be looked at: the ways are taken as known.
	known := `{"kind":"s3","address":"` + target + `","facts":{"at":"` + time.Now().Format(time.RFC3339) +
		`","answers":{"write-if-absent":"works","write-if-still":"works",` +
		`"crc64nvme-ahead":"works","crc64nvme-behind":"works"}}}`
	if err := errors.Join(os.MkdirAll(filepath.Join(work, "state", "tests"), 0o700),
		os.WriteFile(filepath.Join(work, "state", "tests", "to.facts.json"), []byte(known), 0o600)); err != nil {
		return err
	}
	began := time.Now()
	cmd := exec.Command(program, "--workspace", work, "--state", filepath.Join(work, "state"), "--trust", "run",
		"many", "--json")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	if err := cmd.Start(); err != nil {
		return err
	}
	ended := make(chan error, 1)
	go func() { ended <- cmd.Wait() }()
	most := ""
	tick := time.NewTicker(50 * time.Millisecond)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
			if raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", cmd.Process.Pid)); err == nil {
				if _, line, ok := strings.Cut(string(raw), "VmHWM:"); ok {
					line, _, _ = strings.Cut(line, "\n")
					most = strings.TrimSpace(line)
				}
			}
		case err := <-ended:
			if err != nil {
				return fmt.Errorf("the run: %w\n%s", err, out.String())
			}
			took := time.Since(began)
			fmt.Printf("%d objects: %s, %d objects a second, at most %s of memory\n", objects,
				took.Round(time.Second), int(float64(objects)/took.Seconds()), most)
			return nil
		}
	}
}
