package archive

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// damages are what Verify says of an archive.
func damages(t *testing.T, a *Archive) []string {
	t.Helper()
	report, err := a.Verify(t.Context(), func(int64) {})
	require.NoError(t, err)
	var all []string
	for _, d := range report.Damage {
		all = append(all, d.What)
	}
	return all
}

// TestASnapshotThatIsLostIsMissed deletes one by hand, and clears others by the rule.
func TestASnapshotThatIsLostIsMissed(t *testing.T) {
	f := newFixture(t)
	var all []*Snapshot
	for i := range 4 {
		f.write("slot_00/voyage", noise(500, uint64(i)))
		s, _ := f.keep(nil)
		all = append(all, s)
	}
	assert.Empty(t, damages(t, f.a))
	rule := Rule{Count: 2}
	c, err := f.a.PlanClear(rule, f.now)
	require.NoError(t, err)
	require.Len(t, c.Go, 2)
	require.NoError(t, f.a.Clear(t.Context(), rule, c, f.now))
	assert.Empty(t, damages(t, f.a), "what was cleared is not missed")

	require.NoError(t, os.Remove(f.a.snapshotFile("gannet-rock", all[3].ID)))
	found := damages(t, f.a)
	require.Len(t, found, 1)
	assert.Contains(t, found[0], all[3].ID)

	file := filepath.Join(f.a.Dir, machines, host()+".json")
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(file, []byte(strings.Replace(string(data), all[2].ID, all[3].ID, 1)), 0o644))
	assert.Contains(t, strings.Join(damages(t, f.a), " "), machines+"/"+host()+".json", "what a machine says is sealed")
}

// TestSeveralMachinesSayWhatTheyPublished has two write side by side; one clears what the other published.
func TestSeveralMachinesSayWhatTheyPublished(t *testing.T) {
	f := newFixture(t)
	s, _ := f.keep(nil)
	own := filepath.Join(f.a.Dir, machines, host()+".json")
	require.NoError(t, os.Rename(own, filepath.Join(f.a.Dir, machines, "other.json"))) // as if it had been another one
	f.write("slot_00/voyage", []byte("later"))
	later, _ := f.keep(s)
	assert.Empty(t, damages(t, f.a))
	rule := Rule{Count: 1}
	c, err := f.a.PlanClear(rule, f.now)
	require.NoError(t, err)
	require.NoError(t, f.a.Clear(t.Context(), rule, c, f.now))
	assert.Empty(t, damages(t, f.a))
	left, err := f.a.Newest("gannet-rock", Any)
	require.NoError(t, err)
	assert.Equal(t, later.ID, left.ID)
	require.NoError(t, os.WriteFile(filepath.Join(f.a.Dir, machines, "evil.json"), sealJSON([]byte("{\n \"ostrov_published\": 1,\n \"published\": [\n  \"../../etc/passwd\"\n ]\n}")), 0o644))
	assert.Empty(t, damages(t, f.a), "what cannot be a snapshot is not looked for")
}

// TestARemarkTakesThePlaceOfTheNote changes note and tags later, copies them, and clears by them.
func TestARemarkTakesThePlaceOfTheNote(t *testing.T) {
	f := newFixture(t)
	f.write("slot_00/voyage", []byte("first"))
	first, _ := f.keep(nil)
	f.write("slot_00/voyage", []byte("second"))
	f.keep(first)
	require.NoError(t, f.a.Remark(first, "the good one", []string{"best"}))
	read, err := f.a.Snapshot("gannet-rock", 1, "")
	require.NoError(t, err)
	assert.Equal(t, "the good one", read.Note)
	assert.Equal(t, []string{"best"}, read.Tags)
	other, err := Create(filepath.Join(t.TempDir(), "other"), nil)
	require.NoError(t, err)
	defer other.Close()
	_, err = f.a.CopyTo(t.Context(), other, func(int64) {})
	require.NoError(t, err)
	copied, err := other.Snapshot("gannet-rock", 1, "")
	require.NoError(t, err)
	assert.Equal(t, "the good one", copied.Note)
	assert.Empty(t, damages(t, other))
	c, err := f.a.PlanClear(Rule{Count: 1}, f.now.Add(1000*time.Hour))
	require.NoError(t, err)
	assert.Empty(t, c.Go, "one with a note stays")
	require.NoError(t, f.a.Remark(first, "", nil))
	c, err = f.a.PlanClear(Rule{Count: 1}, f.now.Add(1000*time.Hour))
	require.NoError(t, err)
	assert.Len(t, c.Go, 1)
}

// TestLeftoversOfProcessesThatAreNoMore go with the next keep; those of one that runs stay, and those of other machines.
func TestLeftoversOfProcessesThatAreNoMore(t *testing.T) {
	f := newFixture(t)
	f.keep(nil)
	content := filepath.Join(f.a.Dir, "content")
	dead, alive, elsewhere := partOf+host()+"-999999999-1", partOf+host()+"-1-2", partOf+"another-machine-999999999-3"
	for _, name := range []string{dead, alive, elsewhere} {
		require.NoError(t, os.WriteFile(filepath.Join(content, name), []byte("half"), 0o644))
	}
	f.write("slot_00/voyage", []byte("later"))
	f.keep(nil)
	assert.NoFileExists(t, filepath.Join(content, dead))
	assert.FileExists(t, filepath.Join(content, alive))
	assert.FileExists(t, filepath.Join(content, elsewhere))
	f.now = time.Now().Add(2 * expiry)
	f.write("slot_00/voyage", []byte("much later"))
	f.keep(nil)
	assert.NoFileExists(t, filepath.Join(content, alive), "nobody writes for a week")
}
