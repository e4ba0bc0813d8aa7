package vet

import (
	"bytes"
	"os"
	"path/filepath"
	"sort"
	"strings"
	"testing"

	"github.com/klauspost/compress/zip"
	"github.com/klauspost/compress/zstd"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"ostrov/internal/core/check"
	"ostrov/internal/core/coretest"
	"ostrov/internal/core/unpack/unpacktest"
	"ostrov/internal/core/vet/vettest"
)

// codes are the codes of all findings.
func codes(v *Vetting) []string {
	var all []string
	for _, f := range v.Findings {
		all = append(all, string(f.Code))
	}
	if len(v.Judged) == 1 {
		for _, f := range v.Judged[0].Findings {
			all = append(all, string(f.Code))
		}
	}
	return all
}

// TestDownloads vets each download and looks after each whether anything was written anywhere.
func TestDownloads(t *testing.T) {
	w := coretest.New(t)
	all := vettest.All(vettest.NewMaker(t, w.Path))
	places := []string{w.Path("games"), w.Path("prefix"), w.Path("player"), w.Path("downloads")}
	before := coretest.State(t, places...)
	for _, c := range all {
		t.Run(c.About, func(t *testing.T) {
			dir := t.TempDir()
			file := filepath.Join(dir, c.File)
			require.NoError(t, os.WriteFile(file, c.Data, 0o600))
			v, err := Vet(t.Context(), w.Home, file, Request{})
			require.NoError(t, err)
			got := codes(v)
			sort.Strings(got)
			assert.Equal(t, c.Want, strings.Join(got, " "), "%+v", v.Findings)
			if c.Harmless {
				assert.Equal(t, check.Fit, v.Verdict)
			}
			require.NoError(t, v.Close())
			assert.Equal(t, before, coretest.State(t, places...), "nothing else is written")
			scratch, err := os.ReadDir(w.Scratch())
			require.NoError(t, err)
			assert.Empty(t, scratch)
			beside, err := os.ReadDir(dir)
			require.NoError(t, err)
			assert.Len(t, beside, 1)
		})
	}
	t.Logf("%d downloads", len(all))
}

func TestASaveOfAnotherGameIsToldFromNone(t *testing.T) {
	w := coretest.New(t)
	file := filepath.Join(t.TempDir(), "a.orchard")
	require.NoError(t, os.WriteFile(file, []byte(vettest.NewMaker(t, w.Path).Bay), 0o600))
	v, err := Vet(t.Context(), w.Home, file, Request{For: "tidewrack"})
	require.NoError(t, err)
	defer v.Close()
	assert.Equal(t, []string{"other-game"}, codes(v))
}

// TestOwnCodeIsANote gives the player a save that runs code when it is loaded; a download that runs the same is then only noted.
func TestOwnCodeIsANote(t *testing.T) {
	w := coretest.New(t)
	m := vettest.NewMaker(t, w.Path)
	lua := unpacktest.File{"slot_05/mods.lua", "setup('x')"}
	file := filepath.Join(t.TempDir(), "a.zip")
	require.NoError(t, os.WriteFile(file, m.Zip(m.Slot("slot_05"), lua), 0o600))
	severity := func() check.Severity {
		v, err := Vet(t.Context(), w.Home, file, Request{})
		require.NoError(t, err)
		defer v.Close()
		require.Equal(t, []string{"runs-code"}, codes(v))
		return v.Findings[0].Severity
	}
	assert.Equal(t, check.Risk, severity())
	own := w.Path("prefix", "drive_c", "users", "keeper", "Documents", "Tidewrack", "lit", "70431", "slot_01", "mods.lua")
	require.NoError(t, os.WriteFile(own, []byte("local x = 1\nsetup('y')"), 0o600))
	assert.Equal(t, check.Note, severity())
	require.NoError(t, os.WriteFile(own, []byte("other('y')"), 0o600))
	assert.Equal(t, check.Risk, severity(), "what goes beyond the own ones")
}

func TestZipMethodsBeyondTheUsual(t *testing.T) {
	w := coretest.New(t)
	m := vettest.NewMaker(t, w.Path)
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	z.RegisterCompressor(zstd.ZipMethodWinZip, zstd.ZipCompressor())
	for _, f := range m.Slot("slot_05") {
		e, err := z.CreateHeader(&zip.FileHeader{Name: f[0], Method: zstd.ZipMethodWinZip})
		require.NoError(t, err)
		_, err = e.Write([]byte(f[1]))
		require.NoError(t, err)
	}
	require.NoError(t, z.Close())
	file := filepath.Join(t.TempDir(), "a.zip")
	require.NoError(t, os.WriteFile(file, b.Bytes(), 0o600))
	v, err := Vet(t.Context(), w.Home, file, Request{})
	require.NoError(t, err)
	defer v.Close()
	assert.Empty(t, codes(v))
	assert.Equal(t, check.Fit, v.Verdict)
}
