package parcel

import (
	"archive/zip"
	"bytes"
	"strings"
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAMemberComesBack writes one and reads it; what is none, is of a newer format, or is larger than any may be is an error.
func TestAMemberComesBack(t *testing.T) {
	m := Member{Game: "night-tram", Kind: "roster", Called: "driver", Version: "3.1", ID: "00001001", Title: "Bo", Made: time.Date(2026, 3, 1, 0, 0, 0, 0, time.UTC)}
	var b bytes.Buffer
	require.NoError(t, WriteMember(&b, m, []byte("\x00\x00\x10\x01Bo\x00")))
	z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	require.NoError(t, err)
	got, err := FindMember(z)
	require.NoError(t, err)
	m.Format = Format
	assert.Equal(t, &m, got)
	piece, err := MemberPiece(z)
	require.NoError(t, err)
	assert.Equal(t, "\x00\x00\x10\x01Bo\x00", string(piece))
	for text, is := range map[string]bool{"{}": true, "": true, "[1]": true, `{"ostrov_member": 2}`: false, strings.Repeat(" ", maxCard+1): false} {
		_, err := FindMember(fstest.MapFS{"member.json": {Data: []byte(text)}})
		assert.Error(t, err)
		assert.Equal(t, is, err == ErrNoMember, "%.40q", text)
	}
	_, err = FindMember(fstest.MapFS{})
	assert.ErrorIs(t, err, ErrNoMember)
	_, err = MemberPiece(fstest.MapFS{"member": {Data: make([]byte, maxMember+1)}})
	assert.ErrorContains(t, err, "more than")
}

func FuzzMember(f *testing.F) {
	f.Add([]byte(`{"ostrov_member": 1, "game": "night-tram", "kind": "roster", "id": "1", "made": "2026-03-01T00:00:00Z"}`))
	f.Fuzz(func(t *testing.T, data []byte) {
		m, err := FindMember(fstest.MapFS{"member.json": {Data: data}})
		assert.Equal(t, err != nil, m == nil)
	})
}
