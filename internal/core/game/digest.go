package game

import (
	"crypto/md5"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"strconv"
	"strings"
)

// parse reads FROM..TO: bytes from the beginning, or with - from the end; what is left out is the file's own.
func (d *OwnDigest) parse() error {
	a, b, ok := strings.Cut(d.MD5, "..")
	if !ok {
		return fmt.Errorf("%q is not FROM..TO", d.MD5)
	}
	var err1, err2 error
	if a != "" {
		d.from, err1 = strconv.ParseInt(a, 10, 64)
	}
	if b != "" {
		d.to, err2 = strconv.ParseInt(b, 10, 64)
	}
	return errors.Join(err1, err2)
}

// Of is the digest of a file of a size in bytes, in lower-case hex; "" where the part that it is taken of is not there.
func (d *OwnDigest) Of(file io.ReaderAt, size int64) (string, error) {
	from, to := d.from, d.to
	if from < 0 {
		from += size
	}
	if to <= 0 {
		to += size
	}
	if from < 0 || to < from || to > size {
		return "", nil
	}
	h := md5.New()
	if _, err := io.Copy(h, io.NewSectionReader(file, from, to-from)); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
