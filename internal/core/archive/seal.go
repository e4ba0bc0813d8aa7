package archive

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/klauspost/compress/zip"
	"github.com/zeebo/blake3"

	"ostrov/internal/core/tree"
)

// Every file of an archive ends in its seal: the BLAKE3, in hex, of all bytes before the seal. One bit that differs anywhere in it is seen
// by that, also in fields that nothing which is kept depends on. In a content file the seal is the comment that ends every zip; in JSON it
// is the last member; in the README.txt it is the last line.
const (
	hexLen  = 2 * blake3Size
	sealLen = len(algorithm) + hexLen

	blake3Size = 32
	algorithm  = "blake3:"

	jsonSealBegin, jsonSealEnd = ",\n \"seal\": \"", "\"\n}\n"
	textSealBegin, textSealEnd = "\nSeal of all above: ", "\n"
)

var (
	// errSeal says that a file is not as it was written.
	errSeal = fmt.Errorf("%w: it is not as it was written", ErrDamaged)
	// errUnsealed says that a file has no seal: the first archives had none.
	errUnsealed = fmt.Errorf("%w: it has no seal, so nothing tells whether it is as it was written", ErrDamaged)
)

func sealOf(sum []byte) string { return fmt.Sprintf("%s%x", algorithm, sum) }

// sealJSON makes a JSON object that was indented by one space end in its seal.
func sealJSON(object []byte) []byte {
	body := bytes.TrimSuffix(bytes.TrimRight(object, "\n"), []byte("\n}"))
	sum := blake3.Sum256(body)
	return append(bytes.Clone(body), jsonSealBegin+sealOf(sum[:])+jsonSealEnd...)
}

func sealText(text string) []byte {
	sum := blake3.Sum256([]byte(text))
	return []byte(text + textSealBegin + sealOf(sum[:]) + textSealEnd)
}

// checkSealed reports whether data ends in the seal of what is before it.
func checkSealed(data []byte, begin, end string) error {
	at := len(data) - len(end) - sealLen - len(begin)
	if at < 0 || !bytes.HasPrefix(data[at:], []byte(begin)) {
		return errUnsealed
	}
	sum := blake3.Sum256(data[:at])
	if string(data[at:]) != begin+sealOf(sum[:])+end {
		return errSeal
	}
	return nil
}

// checkSealedFile checks the seal of a file of the archive.
func checkSealedFile(path string) error { return checkSealAt(path, path) }

// placeholder is what a content file has for a comment until its seal is known.
var placeholder = strings.Repeat(" ", sealLen)

// sealer takes the digest of all that is written through it but the last sealLen bytes, which it holds back. seal replaces these by the
// seal, and check compares them with it.
type sealer struct {
	to   io.Writer
	hash *blake3.Hasher
	held []byte
}

func newSealer(to io.Writer) *sealer { return &sealer{to: to, hash: blake3.New()} }

func (s *sealer) Write(p []byte) (int, error) {
	if over := len(s.held) + len(p) - sealLen; over > 0 {
		old := min(over, len(s.held))
		if err := s.pass(s.held[:old]); err != nil {
			return 0, err
		}
		s.held = append(s.held[:0], s.held[old:]...)
		if fresh := over - old; fresh > 0 {
			if err := s.pass(p[:fresh]); err != nil {
				return 0, err
			}
			s.held = append(s.held, p[fresh:]...)
			return len(p), nil
		}
	}
	s.held = append(s.held, p...)
	return len(p), nil
}

func (s *sealer) pass(p []byte) error {
	_, _ = s.hash.Write(p) // cannot fail
	_, err := s.to.Write(p)
	return err
}

func (s *sealer) seal() error {
	_, err := io.WriteString(s.to, sealOf(s.hash.Sum(nil)))
	return err
}

func (s *sealer) check() error {
	if !bytes.HasPrefix(s.held, []byte(algorithm)) {
		return errUnsealed
	}
	if string(s.held) != sealOf(s.hash.Sum(nil)) {
		return errSeal
	}
	return nil
}

func checkContentSeal(path string) error {
	f, err := tree.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	s := newSealer(io.Discard)
	if _, err := io.Copy(s, f); err != nil {
		return err
	}
	return s.check()
}

// checkSealAt checks the seal of the file path, which is or becomes the file of the archive that is called name.
func checkSealAt(path, name string) error {
	if filepath.Ext(name) == ".zip" {
		return checkContentSeal(path)
	}
	data, err := readBounded(path)
	switch {
	case err != nil:
		return err
	case filepath.Ext(name) == ".txt":
		return checkSealed(data, textSealBegin, textSealEnd)
	}
	return checkSealed(data, jsonSealBegin, jsonSealEnd)
}

// checkContent reads a content file through and reports what is wrong with it.
func checkContent(ctx context.Context, path string) error {
	if err := checkSealedFile(path); err != nil {
		return err
	}
	z, err := zip.OpenReader(path)
	if err != nil {
		return err
	}
	defer z.Close()
	for _, f := range z.File {
		if err := ctx.Err(); err != nil {
			return err
		}
		d, err := tree.ParseDigest(algorithm + f.Name)
		if err != nil {
			return err
		}
		if _, err := readEntry(f, d); err != nil {
			return err
		}
	}
	return nil
}

// verifySeals names the small files of the archive, slash-separated, whose seal does not hold.
func (a *Archive) verifySeals() (map[string]error, error) {
	names, err := a.Playthroughs()
	if err != nil {
		return nil, err
	}
	files := []string{filepath.Join(a.Dir, "README.txt"), filepath.Join(a.Dir, "archive.json")}
	for _, name := range []string{marks, legacyFile} {
		if file := filepath.Join(a.Dir, name); fileThere(file) {
			files = append(files, file)
		}
	}
	for _, name := range names {
		ids, err := a.ids(name)
		if err != nil {
			return nil, err
		}
		for _, id := range ids {
			files = append(files, a.snapshotFile(name, id))
			if said := filepath.Join(a.Dir, a.remarkFile(name, id)); fileThere(said) {
				files = append(files, said)
			}
		}
	}
	wrong := map[string]error{}
	for _, file := range files {
		if err := checkSealedFile(file); err != nil {
			wrong[a.relative(file)] = err
		}
	}
	return wrong, nil
}

func fileThere(path string) bool {
	_, err := os.Lstat(path)
	return err == nil
}

// readBounded reads a small file of the archive, which may come from anyone.
func readBounded(path string) ([]byte, error) {
	data, err := tree.ReadBounded(path, maxSnapshot)
	if errors.Is(err, tree.ErrLarge) {
		err = fmt.Errorf("%w: larger than %d bytes", ErrDamaged, maxSnapshot)
	}
	return data, err
}
