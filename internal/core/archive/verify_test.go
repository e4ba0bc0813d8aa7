package archive

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/tree"
)

// altered is an archive of three snapshots whose files have been altered, and what each snapshot was made of.
type altered struct {
	*fixture
	want  map[string]map[string]string
	files []string
}

func newAltered(t *testing.T) *altered {
	f := &altered{fixture: newFixture(t), want: map[string]map[string]string{}}
	var before *Snapshot
	for i := range 3 {
		f.write("slot_00/voyage", noise(3000, uint64(i)))
		f.write(fmt.Sprintf("slot_0%d/chart", i), []byte(strings.Repeat(fmt.Sprint("chart ", i), 900)))
		f.write("slot_00/same", []byte("the same"))
		before, _ = f.keep(before)
		files, err := f.read(before)
		require.NoError(t, err)
		f.want[before.ID] = files
	}
	f.write("slot_00/large", noise(3*whole, 9)) // of several parts
	before, _ = f.keep(before)
	files, err := f.read(before)
	require.NoError(t, err)
	f.want[before.ID] = files
	require.NoError(t, f.a.Close())
	require.NoError(t, filepath.WalkDir(f.a.Dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			f.files = append(f.files, path)
		}
		return err
	}))
	return f
}

// check asks Verify, and where that finds the archive whole, brings everything back.
func (f *altered) check(what string) (whole bool) {
	a, err := Open(f.a.Dir, nil)
	if err != nil {
		return false
	}
	defer a.Close()
	report, err := a.Verify(f.t.Context(), func(int64) {})
	if err != nil || len(report.Damage) > 0 {
		return false
	}
	all, broken, err := a.Snapshots("gannet-rock")
	require.NoError(f.t, err, what)
	require.Empty(f.t, broken, what)
	require.Len(f.t, all, len(f.want), "%s: a snapshot is gone", what)
	for _, s := range all {
		files := map[string]string{}
		require.NoError(f.t, a.Nodes(f.t.Context(), s.Roots[0], func(n Node) error {
			if n.Kind != tree.File {
				return nil
			}
			var b bytes.Buffer
			files[n.Path] = ""
			err := a.Copy(context.Background(), n, &b)
			files[n.Path] = b.String()
			return err
		}), what)
		require.True(f.t, assert.ObjectsAreEqual(f.want[s.ID], files), "%s: %s comes back as something else", what, s.ID)
	}
	return true
}

// TestWhatVerifyCallsWholeComesBack alters one file of an archive at a time, in every way that there is.
func TestWhatVerifyCallsWholeComesBack(t *testing.T) {
	f := newAltered(t)
	require.True(t, f.check("as it was kept"))
	r := rand.New(rand.NewPCG(5, 5))
	for _, file := range f.files {
		good, err := os.ReadFile(file)
		require.NoError(t, err)
		same := func() string { // another file of the sort
			for range 50 {
				if other := f.files[r.IntN(len(f.files))]; other != file && filepath.Ext(other) == filepath.Ext(file) {
					return other
				}
			}
			return f.files[0]
		}()
		otherData, err := os.ReadFile(same)
		require.NoError(t, err)
		snapshot := strings.Contains(file, "playthroughs")
		for name, alter := range map[string]func() error{
			"bit": func() error {
				bad := bytes.Clone(good)
				bad[r.IntN(len(bad))] ^= 1 << r.IntN(8)
				return os.WriteFile(file, bad, 0o644)
			},
			"cut":     func() error { return os.WriteFile(file, good[:r.IntN(len(good))], 0o644) },
			"append":  func() error { return os.WriteFile(file, append(bytes.Clone(good), "more"...), 0o644) },
			"replace": func() error { return os.WriteFile(file, otherData, 0o644) },
			"swap": func() error {
				return errors.Join(os.WriteFile(file, otherData, 0o644), os.WriteFile(same, good, 0o644))
			},
			"delete": func() error { return os.Remove(file) },
		} {
			require.NoError(t, alter())
			whole := f.check(name + " " + file)
			if snapshot || strings.Contains(file, "content") {
				assert.False(t, whole && name != "replace" && name != "swap", "%s of %s is seen", name, file)
			}
			require.NoError(t, os.WriteFile(same, otherData, 0o644))
			require.NoError(t, os.WriteFile(file, good, 0o644))
		}
	}
	require.True(t, f.check("as it was kept, again"))
}

// TestWronglyLinkedButRightlySealed alters what a snapshot and its listing say, and seals them anew.
func TestWronglyLinkedButRightlySealed(t *testing.T) {
	f := newAltered(t)
	all, _, err := f.a.Snapshots("gannet-rock")
	require.NoError(t, err)
	newest := all[len(all)-1]
	file := f.a.snapshotFile("gannet-rock", newest.ID)
	good, err := os.ReadFile(file)
	require.NoError(t, err)
	for name, alter := range map[string]func(s *Snapshot){
		"another listing":    func(s *Snapshot) { s.Roots[0].Listing = all[0].Roots[0].Listing },
		"no content files":   func(s *Snapshot) { s.Content = nil },
		"another file":       func(s *Snapshot) { s.Content[0] = "2026-03-01T211402Z-abcdef.zip" },
		"a wrong SHA-256":    func(s *Snapshot) { s.Saves[0].Files[0].SHA256 = strings.Repeat("0", 64) },
		"a file that is not": func(s *Snapshot) { s.Saves[0].Files[0].Path = "slot_09/none" },
		"a wrong count":      func(s *Snapshot) { s.Roots[0].Files++ },
		"a wrong size":       func(s *Snapshot) { s.Roots[0].Bytes-- },
		"a shorter listing":  func(s *Snapshot) { s.Roots[0].Listing[0].Length -= 3 },
		"a part beyond":      func(s *Snapshot) { s.Roots[0].Listing[0].Offset++ },
	} {
		s, err := parseSnapshot(good)
		require.NoError(t, err)
		alter(s)
		data, err := json.MarshalIndent(s, "", " ")
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(file, sealJSON(data), 0o644))
		assert.False(t, f.check(name), name)
	}
	require.NoError(t, os.WriteFile(file, good, 0o644))
	require.True(t, f.check("as it was kept"))
}

// TestClearingTrustsNoSnapshot has a snapshot that does not say what content it needs: that content stays.
func TestClearingTrustsNoSnapshot(t *testing.T) {
	f := newAltered(t)
	all, _, err := f.a.Snapshots("gannet-rock")
	require.NoError(t, err)
	newest := all[len(all)-1]
	newest.Content = newest.Content[:0]
	data, err := json.MarshalIndent(newest, "", " ")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(f.a.snapshotFile("gannet-rock", newest.ID), sealJSON(data), 0o644))
	rule := Rule{Count: 1}
	later := f.now.Add(time.Hour)
	for range 2 {
		c, err := f.a.PlanClear(rule, later)
		require.NoError(t, err)
		err = f.a.Clear(t.Context(), rule, c, later)
		if later = later.Add(2 * GracePeriod); err != nil {
			require.ErrorIs(t, err, ErrDamaged)
		}
	}
	got, err := f.read(newest)
	require.NoError(t, err)
	assert.Equal(t, f.want[newest.ID], got)
}
