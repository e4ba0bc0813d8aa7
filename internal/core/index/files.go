package index

import (
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"maps"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"ostrov/internal/core/tree"
)

// What is known of files is written in runs: those of one folder in order of their names, some hundreds to a row. With a row for each
// file, writing the index took a quarter of the time in which 20,000 small files are kept.

// fullRun is how many files a run has at most.
const fullRun = 256

// place is where a file lies.
type place struct{ folder, name string }

func placeOf(path string) place {
	folder, name := filepath.Split(path)
	return place{folder, name}
}

// file is what is known of one.
type file struct {
	name  string
	known tree.Known
}

func byName(f file, name string) int { return strings.Compare(f.name, name) }

// run is one row.
type run struct {
	folder string
	files  []file
}

// has returns what the run knows of a file.
func (r *run) has(p place) (tree.Known, bool) {
	if r.folder != p.folder {
		return tree.Known{}, false
	}
	i, ok := slices.BinarySearchFunc(r.files, p.name, byName)
	if !ok {
		return tree.Known{}, false
	}
	return r.files[i].known, true
}

// written looks a file up among what was there when the index was opened, or was written since. The runs that were read last are kept:
// files are asked for in about the order of their paths, by a few at once.
func (x *Index) written(p place) (tree.Known, bool) {
	for _, r := range x.recent {
		if k, ok := r.has(p); ok {
			return k, true
		}
	}
	var data []byte
	if x.lookup.QueryRow(p.folder, p.name).Scan(&data) != nil {
		return tree.Known{}, false
	}
	r := &run{p.folder, decodeRun(data)}
	if len(x.recent) < cap(x.recent) {
		x.recent = append(x.recent, r)
	} else {
		x.recent[x.oldest] = r
		x.oldest = (x.oldest + 1) % len(x.recent)
	}
	return r.has(p)
}

// recentRuns is how many runs are kept in memory.
const recentRuns = 8

// writeFiles adds what is fresh to the runs.
func (x *Index) writeFiles(tx *sql.Tx) error {
	w, err := newRunWriter(tx)
	if err != nil {
		return err
	}
	byFolder := map[string][]file{}
	for p, known := range x.fresh {
		byFolder[p.folder] = append(byFolder[p.folder], file{p.name, known})
	}
	for _, folder := range slices.Sorted(maps.Keys(byFolder)) {
		files := byFolder[folder]
		slices.SortFunc(files, func(a, b file) int { return byName(a, b.name) })
		if err := w.write(folder, files); err != nil {
			return err
		}
	}
	return nil
}

// runWriter writes runs.
type runWriter struct{ beginnings, read, remove, insert *sql.Stmt }

func newRunWriter(tx *sql.Tx) (w runWriter, err error) {
	for query, s := range map[string]**sql.Stmt{
		"SELECT first FROM runs WHERE folder = ? ORDER BY first": &w.beginnings,
		"SELECT files FROM runs WHERE folder = ? AND first = ?":  &w.read,
		"DELETE FROM runs WHERE folder = ? AND first = ?":        &w.remove,
		"INSERT INTO runs VALUES (?, ?, ?)":                      &w.insert,
	} {
		if *s, err = tx.Prepare(query); err != nil {
			return w, err
		}
	}
	return w, nil
}

// write adds files, in order of their names, to the runs of a folder.
func (w runWriter) write(folder string, files []file) error {
	firsts, err := texts(w.beginnings, folder)
	if err != nil {
		return err
	}
	if len(firsts) == 0 {
		return w.add(folder, files)
	}
	for i := range firsts { // a run reaches up to the next one, and the first from the beginning
		n := len(files)
		if i+1 < len(firsts) {
			n, _ = slices.BinarySearchFunc(files, firsts[i+1], byName)
		}
		if n == 0 {
			continue
		}
		var data []byte
		if err := w.read.QueryRow(folder, firsts[i]).Scan(&data); err != nil {
			return err
		}
		if _, err := w.remove.Exec(folder, firsts[i]); err != nil {
			return err
		}
		if err := w.add(folder, merge(decodeRun(data), files[:n])); err != nil {
			return err
		}
		files = files[n:]
	}
	return nil
}

// add writes files as runs of about the same length.
func (w runWriter) add(folder string, files []file) error {
	pieces := (len(files) + fullRun - 1) / fullRun
	for piece := range slices.Chunk(files, (len(files)+pieces-1)/pieces) {
		if _, err := w.insert.Exec(folder, piece[0].name, encodeRun(piece)); err != nil {
			return err
		}
	}
	return nil
}

// texts is what a query gives, in a column of texts.
func texts(query *sql.Stmt, arg any) ([]string, error) {
	rows, err := query.Query(arg)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	var all []string
	for rows.Next() {
		var text string
		if err := rows.Scan(&text); err != nil {
			return nil, err
		}
		all = append(all, text)
	}
	return all, rows.Err()
}

// merge puts fresh into old, where it takes the place of what has the same name; both are in order.
func merge(old, fresh []file) []file {
	all := make([]file, 0, len(old)+len(fresh))
	for len(old) > 0 && len(fresh) > 0 {
		switch c := byName(old[0], fresh[0].name); {
		case c < 0:
			all, old = append(all, old[0]), old[1:]
		case c == 0:
			old = old[1:]
		default:
			all, fresh = append(all, fresh[0]), fresh[1:]
		}
	}
	return append(append(all, old...), fresh...)
}

// encodeRun writes files one behind the other, what varies in length behind its length.
func encodeRun(files []file) []byte {
	var b []byte
	text := func(s string) {
		b = binary.AppendUvarint(b, uint64(len(s)))
		b = append(b, s...)
	}
	for _, f := range files {
		k := f.known
		text(f.name)
		text(string(k.Entry.Kind))
		for _, n := range [...]int64{k.Entry.Size, toNano(k.Entry.ModTime), toNano(k.Entry.ChangeTime), int64(k.Entry.FileID), toNano(k.Seen)} {
			b = binary.LittleEndian.AppendUint64(b, uint64(n))
		}
		b = append(b, k.Sums.Blake3[:]...)
		sha, _ := hex.DecodeString(k.Sums.SHA256)
		text(string(sha))
	}
	return b
}

// decodeRun reads what encodeRun wrote. What is damaged is forgotten.
func decodeRun(b []byte) []file {
	var files []file
	whole := true
	take := func(n uint64) []byte {
		if whole = whole && n <= uint64(len(b)); !whole {
			return nil
		}
		taken := b[:n]
		b = b[n:]
		return taken
	}
	text := func() string {
		n, length := binary.Uvarint(b)
		if length <= 0 {
			whole = false
			return ""
		}
		take(uint64(length))
		return string(take(n))
	}
	number := func() int64 {
		if d := take(8); d != nil {
			return int64(binary.LittleEndian.Uint64(d))
		}
		return 0
	}
	for len(b) > 0 {
		var f file
		k := &f.known
		f.name, k.Entry.Kind = text(), tree.Kind(text())
		k.Entry.Size, k.Entry.ModTime, k.Entry.ChangeTime, k.Entry.FileID, k.Seen = number(), fromNano(number()), fromNano(number()), uint64(number()), fromNano(number())
		copy(k.Sums.Blake3[:], take(uint64(len(k.Sums.Blake3))))
		k.Sums.SHA256 = hex.EncodeToString([]byte(text()))
		if !whole {
			return nil
		}
		files = append(files, f)
	}
	return files
}

// fromNano and toNano keep the zero time what it is.
func fromNano(n int64) time.Time {
	if n == 0 {
		return time.Time{}
	}
	return time.Unix(0, n)
}

func toNano(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixNano()
}
