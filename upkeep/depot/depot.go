// Package depot keeps backups at another place: in a folder of another disk, over WebDAV (RFC 4918), or in storage that
// is spoken to as Amazon's Simple Storage Service is (S3, signature version 4).
package depot

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"
	"github.com/studio-b12/gowebdav"

	"idleember/core/site"
	"idleember/elsewhere"
	"idleember/upkeep"
)

// Open returns the place that is described; it is asked only when it is used.
func Open(e site.Elsewhere, secret string) (upkeep.Depot, error) {
	switch e.Via {
	case site.ToFolder:
		return folder(e.Address), nil
	case site.ToWebDAV:
		return &collection{e, secret}, nil
	case site.ToS3:
		at, err := url.Parse(e.Address)
		if err != nil {
			return nil, err
		}
		c, err := minio.New(at.Host, &minio.Options{Creds: credentials.NewStaticV4(e.Account, secret, ""),
			Secure: at.Scheme == "https", Region: e.Region,
			Transport: bounded{elsewhere.Client(e.Inside).Transport}, MaxRetries: 2, BucketLookup: minio.BucketLookupPath})
		if err != nil {
			return nil, err
		}
		return &bucket{c, e}, nil
	}
	return nil, fmt.Errorf("backups are copied nowhere")
}

// folder is one on another disk. It is not made: where a disk is not mounted, its folder is not there, and what was
// written would lie on the disk that is saved.
type folder string

func (f folder) List(context.Context) (names map[string]int64, err error) {
	entries, err := os.ReadDir(string(f))
	if err != nil {
		return nil, f.failed(err)
	}
	names = map[string]int64{}
	for _, e := range entries {
		if info, err := e.Info(); err == nil && info.Mode().IsRegular() {
			names[e.Name()] = info.Size()
		}
	}
	return names, nil
}

func (f folder) failed(err error) error {
	if errors.Is(err, fs.ErrNotExist) {
		return fmt.Errorf("there is no folder %s; is its disk there? Make it once by hand", string(f))
	}
	return err
}

func (f folder) Put(ctx context.Context, name, file string) error {
	if _, err := os.Stat(string(f)); err != nil {
		return f.failed(err)
	}
	from, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = from.Close() }()
	part := filepath.Join(string(f), name+".part")
	to, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(part) }()
	_, err = io.Copy(to, &patient{ctx, from})
	if err = errors.Join(err, to.Sync(), to.Close()); err != nil {
		return err
	}
	return os.Rename(part, filepath.Join(string(f), name))
}

func (f folder) Get(ctx context.Context, name string, to io.Writer) error {
	from, err := os.Open(filepath.Join(string(f), name))
	if err != nil {
		return f.failed(err)
	}
	defer func() { _ = from.Close() }()
	_, err = io.Copy(to, &patient{ctx, from})
	return err
}

func (f folder) Remove(_ context.Context, name string) error {
	return os.Remove(filepath.Join(string(f), name))
}

// patient reads until a context ends.
type patient struct {
	ctx  context.Context
	from io.Reader
}

func (p *patient) Read(b []byte) (int, error) {
	if err := p.ctx.Err(); err != nil {
		return 0, err
	}
	return p.from.Read(b)
}

// collection is one over WebDAV.
type collection struct {
	site.Elsewhere
	secret string
}

// client asks for as long as a context lasts: the library knows none. cut is told why an answer did not come to its
// end, which the library takes for one that did.
func (c *collection) client(ctx context.Context, cut *error) *gowebdav.Client {
	d := gowebdav.NewClient(c.Address, c.Account, c.secret)
	inner := bounded{elsewhere.Client(c.Inside).Transport}
	d.SetTransport(through(func(q *http.Request) (*http.Response, error) {
		r, err := inner.RoundTrip(q.WithContext(ctx))
		if err == nil && cut != nil {
			r.Body = &watched{r.Body, cut}
		}
		return r, err
	}))
	return d
}

// watched remembers why a body could not be read to its end.
type watched struct {
	io.ReadCloser
	cut *error
}

func (w *watched) Read(b []byte) (int, error) {
	n, err := w.ReadCloser.Read(b)
	if err != nil && !errors.Is(err, io.EOF) {
		*w.cut = err
	}
	return n, err
}

// dir lists the collection; one that was cut short is an error. The client is the one that listed, signed in.
func (c *collection) dir(ctx context.Context) (*gowebdav.Client, []os.FileInfo, error) {
	var cut error
	d := c.client(ctx, &cut)
	list, err := d.ReadDir("/")
	if err == nil && cut != nil {
		err = fmt.Errorf("the list of %s breaks off: %w", c.Address, cut)
	}
	return d, list, c.failed(err)
}

// bounded gives up on an answer that is longer than any list; what is fetched is bounded by whoever fetches it.
type bounded struct{ next http.RoundTripper }

const longestAnswer = 8 << 20

func (b bounded) RoundTrip(q *http.Request) (*http.Response, error) {
	r, err := b.next.RoundTrip(q)
	if err == nil && (q.Method != http.MethodGet || q.URL.RawQuery != "") {
		r.Body = http.MaxBytesReader(nil, r.Body, longestAnswer)
	}
	return r, err
}

type through func(*http.Request) (*http.Response, error)

func (t through) RoundTrip(q *http.Request) (*http.Response, error) { return t(q) }

func (c *collection) List(ctx context.Context) (names map[string]int64, err error) {
	_, list, err := c.dir(ctx)
	if err != nil {
		return nil, err
	}
	names = map[string]int64{}
	for _, x := range list {
		if !x.IsDir() {
			names[x.Name()] = x.Size()
		}
	}
	return names, nil
}

func (c *collection) failed(err error) error {
	switch {
	case err == nil:
		return nil
	case gowebdav.IsErrCode(err, http.StatusUnauthorized) || gowebdav.IsErrCode(err, http.StatusForbidden):
		return fmt.Errorf("%s does not take the account or the password", c.Address)
	case gowebdav.IsErrNotFound(err):
		return fmt.Errorf("there is no folder %s; make it there once", c.Address)
	case gowebdav.IsErrCode(err, http.StatusMethodNotAllowed):
		return fmt.Errorf("%s speaks no WebDAV", c.Address)
	}
	return err
}

func (c *collection) Put(ctx context.Context, name, file string) error {
	from, err := os.Open(file)
	if err != nil {
		return err
	}
	defer func() { _ = from.Close() }()
	info, err := from.Stat()
	if err != nil {
		return err
	}
	// The library would make folders that are not there. And who has listed has signed in: a place that asks for the
	// account only when the backup is half sent gets it a second time from a file that is still being read, or breaks the
	// connection.
	d, _, err := c.dir(ctx)
	if err != nil {
		return err
	}
	// Under another name first, so that what is half there is never taken for whole.
	if err := d.WriteStreamWithLength(name+".part", from, info.Size(), 0); err != nil {
		return c.failed(err)
	}
	return c.failed(d.Rename(name+".part", name, true))
}

func (c *collection) Get(ctx context.Context, name string, to io.Writer) error {
	from, err := c.client(ctx, nil).ReadStream(name)
	if err != nil {
		return c.failed(err)
	}
	defer func() { _ = from.Close() }()
	_, err = io.Copy(to, from)
	return err
}

func (c *collection) Remove(ctx context.Context, name string) error {
	return c.failed(c.client(ctx, nil).Remove(name))
}

// bucket is storage that speaks S3. What is put there is there as a whole or not at all.
type bucket struct {
	c *minio.Client
	site.Elsewhere
}

func (b *bucket) key(name string) string { return path.Join(b.Folder, name) }

func (b *bucket) List(ctx context.Context) (names map[string]int64, err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	prefix := ""
	if b.Folder != "" {
		prefix = strings.TrimSuffix(b.Folder, "/") + "/"
	}
	names = map[string]int64{}
	for x := range b.c.ListObjects(ctx, b.Bucket, minio.ListObjectsOptions{Prefix: prefix, Recursive: true}) {
		if x.Err != nil {
			return nil, b.failed(x.Err)
		}
		if name := strings.TrimPrefix(x.Key, prefix); !strings.Contains(name, "/") {
			names[name] = x.Size
		}
		if len(names) > 10_000 {
			return nil, fmt.Errorf("there are more than 10000 things in %s; give backups a folder of their own", b.Bucket)
		}
	}
	return names, nil
}

func (b *bucket) failed(err error) error {
	switch code := minio.ToErrorResponse(err).Code; code {
	case "AccessDenied", "InvalidAccessKeyId", "SignatureDoesNotMatch":
		return fmt.Errorf("%s does not take the access key or its secret (%s)", b.Address, code)
	case "NoSuchBucket":
		return fmt.Errorf("there is no bucket %s at %s; make it there once", b.Bucket, b.Address)
	}
	return err
}

func (b *bucket) Put(ctx context.Context, name, file string) error {
	if _, err := b.c.FPutObject(ctx, b.Bucket, b.key(name), file,
		minio.PutObjectOptions{ContentType: "application/octet-stream"}); err != nil {
		return b.failed(err)
	}
	return nil
}

func (b *bucket) Get(ctx context.Context, name string, to io.Writer) error {
	from, err := b.c.GetObject(ctx, b.Bucket, b.key(name), minio.GetObjectOptions{})
	if err != nil {
		return b.failed(err)
	}
	defer func() { _ = from.Close() }()
	if _, err := io.Copy(to, from); err != nil {
		return b.failed(err)
	}
	return nil
}

func (b *bucket) Remove(ctx context.Context, name string) error {
	if err := b.c.RemoveObject(ctx, b.Bucket, b.key(name), minio.RemoveObjectOptions{}); err != nil {
		return b.failed(err)
	}
	return nil
}
