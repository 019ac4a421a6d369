package site

import (
	"fmt"
	"net/url"
	"path/filepath"
	"slices"
	"strings"
)

// Elsewhere is another place to which backups are copied: another disk, or storage of somebody else. Its password is
// kept elsewhere.
type Elsewhere struct {
	Via     string `json:"via,omitempty"`     // folder, webdav, s3; empty: none
	Address string `json:"address,omitempty"` // the folder's path; the collection's URL; the URL of the storage
	Bucket  string `json:"bucket,omitempty"`  // s3
	Folder  string `json:"folder,omitempty"`  // s3: what names begin with
	Region  string `json:"region,omitempty"`  // s3, where the storage asks for it
	Account string `json:"account,omitempty"` // whose password is kept; s3: the access key
	Inside  bool   `json:"inside,omitempty"`  // it may be an address in the house
}

// Where backups may be copied to.
const (
	ToFolder = "folder"
	ToWebDAV = "webdav"
	ToS3     = "s3"
)

// Away reports whether what is copied leaves this computer.
func (e Elsewhere) Away() bool { return e.Via == ToWebDAV || e.Via == ToS3 }

// Same reports whether a password for the one place is for the other too.
func (e Elsewhere) Same(o Elsewhere) bool {
	return e.Via == o.Via && e.Address == o.Address && e.Account == o.Account && e.Bucket == o.Bucket
}

// Validate says in a sentence what is wrong, or returns nil. Long, because it is one list of checks, each with its
// sentence.
func (e Elsewhere) Validate() error {
	if e.Via == "" {
		return nil
	}
	if !slices.Contains([]string{ToFolder, ToWebDAV, ToS3}, e.Via) {
		return fmt.Errorf("backups are copied to a folder, webdav or s3, not to %q", e.Via)
	}
	for _, s := range []string{e.Address, e.Bucket, e.Folder, e.Region, e.Account} {
		if len(s) > 1000 || strings.ContainsAny(s, "\r\n\x00") {
			return fmt.Errorf("what says where backups are copied is too long, or has a line break in it")
		}
	}
	if e.Via == ToFolder {
		if !filepath.IsAbs(e.Address) {
			return fmt.Errorf("the folder %q is no whole path; it begins with /", e.Address)
		}
		return nil
	}
	u, err := url.Parse(e.Address)
	switch {
	case err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Host == "":
		return fmt.Errorf("the address %q begins with https:// or http://", e.Address)
	case u.User != nil:
		return fmt.Errorf("the address holds an account or a password; enter them in their own fields")
	case u.RawQuery != "" || u.Fragment != "":
		return fmt.Errorf("the address %q has a ? or # in it", e.Address)
	case e.Via == ToS3 && (u.Path != "" && u.Path != "/"):
		return fmt.Errorf("the address of the storage is its name alone, as in https://s3.example.org; the bucket has a " +
			"field of its own")
	case e.Via == ToS3 && (len(e.Bucket) < 3 || strings.ContainsAny(e.Bucket, "/ ")):
		return fmt.Errorf("%q is no name of a bucket", e.Bucket)
	case strings.Contains(e.Folder, "..") || strings.HasPrefix(e.Folder, "/"):
		return fmt.Errorf("%q is no folder in a bucket", e.Folder)
	}
	return nil
}
