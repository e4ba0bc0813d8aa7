// Package bag writes BagIt bags (RFC 8493) as zips, for what goes out to people who may not have Ostrov.
//
// A bag is one folder: data/ has what it is about, and manifests the SHA-512 of everything, which `sha512sum -c` checks. What is in it is
// its callers' business; package parcel reads bags, too.
package bag

import (
	"archive/zip"
	"bytes"
	"crypto/sha512"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"time"
)

// Names of the files that make a folder a bag.
const (
	Declaration = "bagit.txt"
	Info        = "bag-info.txt"
	Manifest    = "manifest-sha512.txt"
	TagManifest = "tagmanifest-sha512.txt"
	// Fetch lists files that are not in the bag but elsewhere (RFC 8493, 2.2.3). Ours have none.
	Fetch = "fetch.txt"

	declaration = "BagIt-Version: 1.0\nTag-File-Character-Encoding: UTF-8\n"
)

// Writer writes one bag. Nothing of it is of use before Close.
type Writer struct {
	zip   *zip.Writer
	name  string
	made  time.Time
	sums  map[string]string // SHA-512 in hex, by path
	bytes int64             // of the payload
	count int
}

// NewWriter begins a bag whose folder is called name.
func NewWriter(out io.Writer, name string, made time.Time) *Writer {
	return &Writer{zip: zip.NewWriter(out), name: name, made: made, sums: map[string]string{}}
}

// File adds the file path, slash-separated in the bag, which copy writes. What is meant for the reader lies below data/.
func (w *Writer) File(path string, when time.Time, copy func(io.Writer) error) error {
	entry, err := w.zip.CreateHeader(&zip.FileHeader{Name: w.name + "/" + path, Method: zip.Deflate, Modified: when})
	if err != nil {
		return err
	}
	sum := sha512.New()
	var n counter
	err = copy(io.MultiWriter(entry, sum, &n))
	w.sums[path] = hex.EncodeToString(sum.Sum(nil))
	if payload(path) {
		w.bytes, w.count = w.bytes+int64(n), w.count+1
	}
	return err
}

type counter int64

func (c *counter) Write(p []byte) (int, error) { *c += counter(len(p)); return len(p), nil }

// Text adds a file of which the content is at hand.
func (w *Writer) Text(path string, data []byte) error {
	return w.File(path, w.made, func(out io.Writer) error { _, err := out.Write(data); return err })
}

// Close adds the manifests and what the bag says of itself, and ends it.
func (w *Writer) Close(description string) error {
	info := fmt.Sprintf("Bagging-Date: %s\nPayload-Oxum: %d.%d\nExternal-Description: %s\n", w.made.UTC().Format("2006-01-02"), w.bytes, w.count, strings.Join(strings.Fields(description), " "))
	manifest := w.manifest(payload)
	err := errors.Join(w.Text(Declaration, []byte(declaration)), w.Text(Info, []byte(info)), w.Text(Manifest, manifest))
	tags := w.manifest(func(path string) bool { return !payload(path) })
	return errors.Join(err, w.Text(TagManifest, tags), w.zip.Close())
}

func payload(path string) bool { return strings.HasPrefix(path, "data/") }

func (w *Writer) manifest(which func(string) bool) []byte {
	var out bytes.Buffer
	for _, path := range slices.Sorted(maps.Keys(w.sums)) {
		if which(path) {
			fmt.Fprintf(&out, "%s  %s\n", w.sums[path], path)
		}
	}
	return out.Bytes()
}
