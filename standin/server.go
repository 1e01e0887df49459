package standin

import (
	"bytes"
	"context"
	"crypto/md5"
	"encoding/base64"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Config is what a stand-in is started with.
type Config struct {
	// Dir holds everything; it is made if need be.
	Dir string
	// Keys are the credentials accepted. Without any, set Public.
	Keys []Key
	// Public answers unsigned requests too.
	Public bool
	// API is what it speaks: [S3API], which "" is too, or [BlobAPI], where a Key's
	// Access is the account, its Secret the account key in base64.
	API string
	// Versions has the Blob dialect keep every state of every blob, Retain
	// keep removed ones: both are settings of the account there.
	Versions, Retain bool
	// RestoreTakes is how long a restore from a cold class takes; 0 means three
	// seconds.
	RestoreTakes time.Duration
	// Domain is the host name that buckets may stand in front of
	// ("bucket.domain"); "" means path addressing only.
	Domain string
	// Habits are the ways in which it is not as the reference of its API says.
	Habits []Habit
	// Seed is what the chances of faults go by: the same, and the same requests meet the same ones.
	Seed uint64
}

func (c *Config) restoreTakes() time.Duration {
	if c.RestoreTakes > 0 {
		return c.RestoreTakes
	}
	return 3 * time.Second
}

// Server is a running or idle stand-in. It is an [http.Handler].
type Server struct {
	cfg    Config
	faults faults
	lock   *os.File

	mu      sync.RWMutex
	buckets map[string]*bucket

	http *http.Server
	addr string
	done chan struct{}
}

// New opens the store in cfg.Dir. One process at a time can have it open: a
// second gets [ErrInUse].
func New(cfg Config) (*Server, error) {
	if err := os.MkdirAll(cfg.Dir, 0o755); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(cfg.Dir, "lock"), os.O_RDWR|os.O_CREATE, 0o644)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		lock.Close()
		return nil, ErrInUse
	}
	s := &Server{cfg: cfg, lock: lock, buckets: map[string]*bucket{}}
	s.faults.seed = cfg.Seed
	entries, err := os.ReadDir(cfg.Dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !e.IsDir() {
			continue
		}
		if s.buckets[e.Name()], err = openBucket(cfg.Dir, e.Name(), cfg.blob()); err != nil {
			return nil, err
		}
	}
	return s, nil
}

// ErrInUse means that another process has the store open; [Address] tells
// where it listens.
var ErrInUse = errors.New("another process has this stand-in open")

const addressFile = "address"

// Address is where the process that has the store in dir open listens.
func Address(dir string) (string, error) {
	raw, err := os.ReadFile(filepath.Join(dir, addressFile))
	return string(raw), err
}

// Start listens on a loopback address, "127.0.0.1:0" for a free port, and
// returns the base URL.
func (s *Server) Start(addr string) (string, error) {
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return "", err
	}
	if ip := l.Addr().(*net.TCPAddr).IP; !ip.IsLoopback() {
		l.Close()
		return "", fmt.Errorf("a stand-in listens on loopback only, not on %s", ip)
	}
	s.addr = "http://" + l.Addr().String()
	s.http = &http.Server{Handler: s, ReadHeaderTimeout: time.Minute}
	s.done = make(chan struct{})
	go func() {
		defer close(s.done)
		s.http.Serve(l)
	}()
	return s.addr, os.WriteFile(filepath.Join(s.cfg.Dir, addressFile), []byte(s.addr), 0o644)
}

// Close stops listening and releases the store.
func (s *Server) Close() error {
	if s.http != nil {
		ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
		defer cancel()
		if s.http.Shutdown(ctx) != nil {
			s.http.Close()
		}
		<-s.done
		os.Remove(filepath.Join(s.cfg.Dir, addressFile))
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, b := range s.buckets {
		b.close()
	}
	return s.lock.Close()
}

// call is one request, taken apart.
type call struct {
	s      *Server
	w      http.ResponseWriter
	r      *http.Request
	query  url.Values
	bucket string
	key    string
}

// The protocols a stand-in speaks.
const (
	S3API   = "s3"
	BlobAPI = "blob"
)

func (c *Config) blob() bool { return c.API == BlobAPI }

// ServeHTTP answers one request, in the dialect the stand-in speaks. It has to be
// addressed to this machine by an address or by a name that stays here: a page in a
// browser can have a name of its own lead to loopback, and must not get to the store
// by that.
func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	if !s.isMe(hostOf(r)) {
		http.Error(w, "this stand-in answers to its address and to localhost only", http.StatusMisdirectedRequest)
		return
	}
	if s.cfg.blob() {
		s.serveBlob(w, r)
	} else {
		s.serveS3(w, r)
	}
}

func hostOf(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.Host)
	if err != nil {
		host = r.Host
	}
	return strings.ToLower(strings.Trim(host, "[]"))
}

func (s *Server) isMe(host string) bool {
	below := func(domain string) bool { return host == domain || strings.HasSuffix(host, "."+domain) }
	_, err := netip.ParseAddr(host)
	return err == nil || below("localhost") || s.cfg.Domain != "" && below(s.cfg.Domain)
}

// serveS3 answers one request of the S3 API.
func (s *Server) serveS3(w http.ResponseWriter, r *http.Request) {
	c := &call{s: s, r: r, query: r.URL.Query()}
	path := strings.TrimPrefix(r.URL.Path, "/")
	if name, ok := strings.CutSuffix(hostOf(r), "."+s.cfg.Domain); ok && s.cfg.Domain != "" {
		c.bucket, c.key = name, path
	} else {
		c.bucket, c.key, _ = strings.Cut(path, "/")
	}
	c.key = s.folded(c.key)
	op, handle := c.route()
	s.misbehave(w, r, op, c.key, func(w http.ResponseWriter, r *http.Request) {
		c.w, c.r = w, r
		w.Header().Set("X-Amz-Request-Id", "standin")
		if bad := s.authenticate(r); bad != nil {
			bad.write(w, r)
			return
		}
		if handle == nil {
			fault(http.StatusNotImplemented, "NotImplemented", "this stand-in has no such operation").write(w, r)
			return
		}
		if err := s.accustom(r, op); err != nil {
			asAPIError(err).write(w, r)
			return
		}
		if err := handle(c); err != nil {
			asAPIError(err).write(w, r)
		}
	})
}

type handler func(*call) error

// route names the operation as the API Reference does and finds its handler.
func (c *call) route() (string, handler) {
	has := c.query.Has
	m := c.r.Method
	switch {
	case c.bucket == "":
		if m == http.MethodGet {
			return "ListBuckets", (*call).listBuckets
		}
	case c.key == "":
		switch {
		case m == http.MethodGet && has("versioning"):
			return "GetBucketVersioning", (*call).getVersioning
		case m == http.MethodPut && has("versioning"):
			return "PutBucketVersioning", (*call).putVersioning
		case c.setting() != "":
			return c.setting(), (*call).bucketSetting
		case m == http.MethodGet && has("location"):
			return "GetBucketLocation", (*call).location
		case m == http.MethodGet && has("uploads"):
			return "ListMultipartUploads", (*call).listUploads
		case m == http.MethodGet && has("versions"):
			return "ListObjectVersions", (*call).listVersions
		case m == http.MethodGet && c.query.Get("list-type") == "2":
			return "ListObjectsV2", (*call).list
		case m == http.MethodGet:
			return "ListObjects", (*call).list
		case m == http.MethodPost && has("delete"):
			return "DeleteObjects", (*call).deleteMany
		case m == http.MethodPut:
			return "CreateBucket", (*call).makeBucket
		case m == http.MethodDelete:
			return "DeleteBucket", (*call).removeBucket
		case m == http.MethodHead:
			return "HeadBucket", (*call).headBucket
		}
	default:
		return c.routeObject(m, has)
	}
	return m, nil
}

func (c *call) routeObject(m string, has func(string) bool) (string, handler) {
	copied := c.r.Header.Get("X-Amz-Copy-Source") != ""
	switch {
	case has("tagging") && m == http.MethodGet:
		return "GetObjectTagging", (*call).getTags
	case has("tagging") && (m == http.MethodPut || m == http.MethodDelete):
		return "PutObjectTagging", (*call).putTags
	case m == http.MethodPost && has("restore"):
		return "RestoreObject", (*call).restore
	case m == http.MethodPost && has("uploads"):
		return "CreateMultipartUpload", (*call).begin
	case m == http.MethodPut && has("uploadId") && copied:
		return "UploadPartCopy", (*call).copyPart
	case m == http.MethodPut && has("uploadId"):
		return "UploadPart", (*call).putPart
	case m == http.MethodGet && has("uploadId"):
		return "ListParts", (*call).listParts
	case m == http.MethodPost && has("uploadId"):
		return "CompleteMultipartUpload", (*call).complete
	case m == http.MethodDelete && has("uploadId"):
		return "AbortMultipartUpload", (*call).abort
	case m == http.MethodPut && copied:
		return "CopyObject", (*call).copyObject
	case m == http.MethodPut:
		return "PutObject", (*call).putObject
	case m == http.MethodGet:
		return "GetObject", (*call).getObject
	case m == http.MethodHead:
		return "HeadObject", (*call).getObject
	case m == http.MethodDelete:
		return "DeleteObject", (*call).deleteObject
	}
	return m, nil
}

// apiError is an error as the API writes it.
type apiError struct {
	status  int
	Code    string
	Message string
}

func fault(status int, code, message string) *apiError { return &apiError{status, code, message} }

// asAPIError is the error as the API tells it: one of our own as it is.
func asAPIError(err error) *apiError {
	var api *apiError
	if err != nil && !errors.As(err, &api) {
		api = fault(http.StatusInternalServerError, "InternalError", err.Error())
	}
	return api
}

func (e *apiError) Error() string { return e.Code + ": " + e.Message }

func (e *apiError) write(w http.ResponseWriter, r *http.Request) {
	w.Header().Set("Content-Type", "application/xml")
	w.WriteHeader(e.status)
	if r.Method != http.MethodHead {
		answer(w, struct {
			XMLName xml.Name `xml:"Error"`
			Code    string
			Message string
		}{Code: e.Code, Message: e.Message})
	}
}

// answer writes an XML document.
func answer(w http.ResponseWriter, doc any) error {
	w.Header().Set("Content-Type", "application/xml")
	raw, err := xml.Marshal(doc)
	if err != nil {
		return err
	}
	_, err = w.Write(append([]byte(xml.Header), raw...))
	return err
}

// document reads a request's XML.
func (c *call) document(into any) error {
	if err := xml.NewDecoder(io.LimitReader(c.r.Body, 4<<20)).Decode(into); err != nil {
		return fault(http.StatusBadRequest, "MalformedXML", "the request's document cannot be read")
	}
	return nil
}

// summed reads a request's XML and holds it against the checksum in a header, of
// requests where that is of the document and not of an object.
func (c *call) summed(into any) error {
	raw, err := io.ReadAll(io.LimitReader(c.r.Body, 4<<20))
	if err != nil {
		return fault(http.StatusBadRequest, "IncompleteBody", "the document broke off")
	}
	c.r.Body = io.NopCloser(bytes.NewReader(raw))
	for name, said := range c.r.Header {
		h := newSum(name)
		if name == "Content-Md5" {
			h = md5.New()
		}
		if h != nil {
			h.Write(raw)
			if base64.StdEncoding.EncodeToString(h.Sum(nil)) != said[0] {
				return fault(http.StatusBadRequest, "BadDigest", "the document is not what "+name+" says")
			}
		}
	}
	return c.document(into)
}

func (c *call) openBucket() (*bucket, error) { return c.s.bucketNamed(c.bucket) }

func (s *Server) bucketNamed(name string) (*bucket, error) {
	s.mu.RLock()
	defer s.mu.RUnlock()
	if b := s.buckets[name]; b != nil {
		return b, nil
	}
	return nil, fault(http.StatusNotFound, "NoSuchBucket", "there is no such bucket")
}

// bucketName is the rule of the API Reference, "Bucket naming rules".
var bucketName = regexp.MustCompile(`^[a-z0-9][a-z0-9.-]{1,61}[a-z0-9]$`)

func (c *call) makeBucket() error {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	switch {
	case !bucketName.MatchString(c.bucket):
		return fault(http.StatusBadRequest, "InvalidBucketName", "3 to 63 lower-case letters, digits, dots and hyphens")
	case c.s.buckets[c.bucket] != nil:
		return fault(http.StatusConflict, "BucketAlreadyOwnedByYou", "the bucket is there already")
	}
	b, err := openBucket(c.s.cfg.Dir, c.bucket, c.s.cfg.blob())
	if err == nil {
		c.s.buckets[c.bucket] = b
	}
	return err
}

func (c *call) removeBucket() error {
	c.s.mu.Lock()
	defer c.s.mu.Unlock()
	b := c.s.buckets[c.bucket]
	if b == nil {
		return fault(http.StatusNotFound, "NoSuchBucket", "there is no such bucket")
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.keys.Len() > 0 {
		return fault(http.StatusConflict, "BucketNotEmpty", "the bucket still holds objects or versions")
	}
	if err := c.s.drop(b); err != nil {
		return err
	}
	c.w.WriteHeader(http.StatusNoContent)
	return nil
}

// drop forgets a bucket and removes its files. The caller holds the lock.
func (s *Server) drop(b *bucket) error {
	b.close()
	delete(s.buckets, b.name)
	return os.RemoveAll(b.dir)
}

func (c *call) headBucket() error {
	_, err := c.openBucket()
	return err
}

func (c *call) location() error {
	return answer(c.w, struct {
		XMLName xml.Name `xml:"LocationConstraint"`
	}{})
}
