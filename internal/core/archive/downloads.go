package archive

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"ostrov/internal/core/durable"
	"ostrov/internal/core/tree"
)

// downloadsDir is the folder of the archive with the downloads of mods, each as it came: DIGEST-NAME, where DIGEST is the first 32 hex digits of
// the BLAKE3 of its content. Archives without downloads have no such folder.
const downloadsDir = "downloads"

var downloadName = regexp.MustCompile(`^([0-9a-f]{32})-(.{1,200})$`)

// Download is a download that the archive keeps.
type Download struct {
	Name string // as it came
	Path string // where it lies
	Size int64  // in bytes

	prefix string
}

// Is reports whether the download has a digest.
func (d Download) Is(digest tree.Digest) bool { return strings.HasPrefix(digest.Hex(), d.prefix) }

// Downloads are the downloads that the archive keeps, in order of their names.
func (a *Archive) Downloads() ([]Download, error) {
	list, err := os.ReadDir(filepath.Join(a.Dir, downloadsDir))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	var all []Download
	for _, e := range list {
		m := downloadName.FindStringSubmatch(e.Name())
		info, err := e.Info()
		if m == nil || err != nil || !info.Mode().IsRegular() {
			continue
		}
		all = append(all, Download{m[2], filepath.Join(a.Dir, downloadsDir, e.Name()), info.Size(), m[1]})
	}
	return all, nil
}

// FindDownload finds the download of a digest; ok is false where the archive does not have it.
func (a *Archive) FindDownload(digest tree.Digest) (d Download, ok bool, err error) {
	all, err := a.Downloads()
	if err != nil {
		return d, false, err
	}
	i := slices.IndexFunc(all, func(d Download) bool { return d.Is(digest) })
	if i < 0 {
		return d, false, nil
	}
	return all[i], true, nil
}

// KeepDownload takes a download into the archive, as it is, and returns its digest. One that is there is not written again. progress is told
// the bytes written.
func (a *Archive) KeepDownload(ctx context.Context, file string, progress func(n int64)) (tree.Digest, error) {
	name := filepath.Base(file)
	if len(name) > 200 {
		name = name[len(name)-200:]
	}
	f, err := os.Open(file)
	if err != nil {
		return tree.Digest{}, err
	}
	defer f.Close()
	dir := filepath.Join(a.Dir, downloadsDir)
	if err := os.MkdirAll(dir, folderMode); err != nil {
		return tree.Digest{}, err
	}
	temp, err := os.CreateTemp(dir, partName())
	if err != nil {
		return tree.Digest{}, err
	}
	sums, _, err := tree.SumReader(ctx, f, false, io.MultiWriter(temp, meter(progress)))
	if err != nil {
		return tree.Digest{}, errors.Join(err, temp.Close(), os.Remove(temp.Name()))
	}
	if _, there, err := a.FindDownload(sums.Blake3); err != nil || there {
		return sums.Blake3, errors.Join(err, temp.Close(), os.Remove(temp.Name()))
	}
	to := filepath.Join(dir, fmt.Sprintf("%.32s-%s", sums.Blake3.Hex(), name))
	return sums.Blake3, durable.Publish(temp, to, fileMode, nil)
}

type meter func(n int64)

func (m meter) Write(p []byte) (int, error) {
	m(int64(len(p)))
	return len(p), nil
}

// downloads reads the downloads through.
func (v *verifier) downloads(ctx context.Context) error {
	all, err := v.a.Downloads()
	if err != nil {
		return err
	}
	for _, d := range all {
		f, err := os.Open(d.Path)
		if err != nil {
			return err
		}
		sums, _, err := tree.SumReader(ctx, f, false, meter(v.progress))
		f.Close()
		if ctx.Err() != nil {
			return ctx.Err()
		}
		if err != nil || !d.Is(sums.Blake3) {
			v.touch(v.a.relative(d.Path)+" is not what was downloaded", "the download "+d.Name)
		}
		v.report.Bytes += d.Size
	}
	return nil
}

// copyDownloads copies the downloads that another archive lacks.
func (a *Archive) copyDownloads(ctx context.Context, to *Archive, done *Copied, progress func(int64)) error {
	all, err := a.Downloads()
	if err != nil {
		return err
	}
	for _, d := range all {
		if err := os.MkdirAll(filepath.Join(to.Dir, downloadsDir), folderMode); err != nil {
			return err
		}
		n, err := a.copyFile(ctx, to, filepath.Join(downloadsDir, filepath.Base(d.Path)))
		if err != nil {
			return err
		}
		if n > 0 {
			done.Files, done.Bytes = done.Files+1, done.Bytes+n
			progress(n)
		}
	}
	return nil
}
