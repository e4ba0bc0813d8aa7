package form

import (
	"bytes"
	"encoding/json"
	"io/fs"
	"sync/atomic"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// metered is a file system that counts the bytes that are read in it.
type metered struct {
	fs.FS
	read *atomic.Int64 // a second pass reads at the same time
}

type meteredFile struct {
	fs.File
	read *atomic.Int64
}

func (m metered) Open(name string) (fs.File, error) {
	f, err := m.FS.Open(name)
	return meteredFile{f, m.read}, err
}

func (f meteredFile) ReadAt(b []byte, off int64) (int, error) {
	n, err := f.File.(interface {
		ReadAt([]byte, int64) (int, error)
	}).ReadAt(b, off)
	f.read.Add(int64(n))
	return n, err
}

// TestWhatIsRememberedIsNotReadAgain reads large files twice, then changes one at once: what was passed over once is known then. Notes that
// cannot be of the file are not believed.
func TestWhatIsRememberedIsNotReadAgain(t *testing.T) {
	for form, query := range lastOf {
		t.Run(form, func(t *testing.T) {
			data := largeSave(form, 600_000)
			dir := fstest.MapFS{"save": {Data: data}, "small": {Data: data[:1000]}}
			notes := map[string][]byte{}
			var read atomic.Int64
			fsys := Remembered(metered{dir, &read}, func(name string) []byte { return notes[name] }, func(name string, what []byte) { notes[name] = what })
			spec := Spec{Form: form}
			ask := func(spec Spec) (got string, bytes int) {
				read.Store(0)
				doc, err := openText(fsys, "save", spec, DefaultLimits)
				require.NoError(t, err)
				got, ok, err := doc.Value(t.Context(), query)
				require.NoError(t, err)
				require.True(t, ok)
				require.NoError(t, doc.Close())
				return got, int(read.Load())
			}
			got, most := ask(spec)
			require.Equal(t, "2.1", got)
			assert.GreaterOrEqual(t, most, len(data), "all of it is read once")
			require.NotEmpty(t, notes["save"])
			assert.Less(t, len(notes["save"]), 100_000)
			noted := notes["save"]
			got, least := ask(spec)
			assert.Equal(t, "2.1", got)
			assert.Less(t, least, 8<<20, "then only what stands between its parts")
			assert.Equal(t, noted, notes["save"])

			read.Store(0)
			file := opened{fsys, int64(len(data))}
			e, err := spec.EditFile(t.Context(), file, file.size)
			require.NoError(t, err)
			one, err := e.One(t.Context(), nil, query)
			require.NoError(t, err)
			require.NoError(t, e.Set(one, "2.22"))
			now, changed, err := e.Result(t.Context())
			require.NoError(t, err)
			assert.True(t, changed)
			assert.Less(t, read.Load(), int64(8<<20), "nor to change it")
			var all bytes.Buffer
			require.NoError(t, now.(*patched).CopyTo(&all))
			assert.True(t, bytes.Equal(bytes.Replace(data, []byte("2.1"), []byte("2.22"), 1), all.Bytes()))

			dir["save"] = &fstest.MapFile{Data: bytes.Replace(bytes.Replace(data, []byte("lamp3"), []byte("lamp3-3"), 1), []byte("rope"), []byte("ro"), 1)} // the list ends elsewhere, and all is as large as it was
			got, _ = ask(spec)
			assert.Equal(t, "2.1", got, "what is not as it was is not believed, whatever tells of it")
			dir["save"] = &fstest.MapFile{Data: data}

			var w writtenOutline
			require.NoError(t, json.Unmarshal(noted, &w))
			for name, bad := range map[string]writtenOutline{
				"another form":    {"chunks", w.Parts},
				"behind its end":  {form, []int{0, 1, len(data) + 1}},
				"before it":       {form, []int{-1, 1, 20}},
				"turned about":    {form, []int{20, 1, 10}},
				"ends outside":    {form, []int{1, 20, 10}},
				"not a multiple":  {form, []int{1, 2}},
				"more than there": {form, make([]int, 3*maxRemembered+3)},
			} {
				written, err := json.Marshal(bad)
				require.NoError(t, err)
				assert.False(t, (&memory{form: form}).read(written, len(data)), name)
			}
			assert.True(t, (&memory{form: form}).read(noted, len(data)))
			notes["save"] = []byte("{")
			got, again := ask(spec)
			assert.Equal(t, "2.1", got)
			assert.GreaterOrEqual(t, again, len(data))
			assert.Equal(t, noted, notes["save"], "it is noted anew")
			f, err := fsys.Open("small")
			require.NoError(t, err)
			assert.NotImplements(t, (*interface{ memory(string) *memory })(nil), f, "what is soon read again is not remembered")
		})
	}
}

// opened is a file as an editor has it: opened for each reading.
type opened struct {
	fsys fs.FS
	size int64
}

func (o opened) Opened() (fs.File, error) { return o.fsys.Open("save") }

func (o opened) ReadAt(b []byte, off int64) (int, error) {
	f, err := o.Opened()
	if err != nil {
		return 0, err
	}
	return f.(interface {
		ReadAt([]byte, int64) (int, error)
	}).ReadAt(b, off)
}

// TestWhatIsDamagedIsNotRemembered: only what has been passed over to its end is.
func TestWhatIsDamagedIsNotRemembered(t *testing.T) {
	for form := range lastOf {
		data := largeSave(form, 600_000)
		fsys := Remembered(fstest.MapFS{"save": {Data: data[:len(data)-3]}}, func(string) []byte { return nil }, func(string, []byte) { t.Error("noted") })
		_, err := openText(fsys, "save", Spec{Form: form}, DefaultLimits)
		assert.ErrorIs(t, err, ErrDamaged)
	}
	lines := Remembered(fstest.MapFS{"save": {Data: bytes.Repeat([]byte("BEGIN x\nEND x\n"), 3_000_000)}}, func(string) []byte { return nil }, func(string, []byte) { t.Error("noted") })
	_, err := openText(lines, "save", blockSpecs["lines"], DefaultLimits)
	assert.NoError(t, err, "where lines count, what stands behind a block tells where it ends")
}
