package game

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestAnother calls saves in other ways until one is free: each is again a name of the pattern.
func TestAnother(t *testing.T) {
	for _, c := range []struct {
		pattern, from string
		want          []string
	}{
		{"{name}.sav", "Cove.sav", []string{"Cove.sav", "Cove 2.sav", "Cove 3.sav"}},
		{"#{id}.map", "#a1.map", []string{"#a1.map", "#a1 2.map"}},
		{"w{id:digits}.sav", "w099.sav", []string{"w099.sav", "w100.sav"}},
		{"w{id:3}.sav", "w007.sav", []string{"w007.sav", "w008.sav"}},
		{"{id:hex}.sav", "0f.sav", []string{"0f.sav", "10.sav"}},
		{"{id:letter}.sav", "b.sav", []string{"b.sav", "c.sav"}},
		{"#{id:base64}.sav", "#Q292ZQ==.sav", []string{"#Q292ZQ==.sav", "#Q292ZSAy.sav", "#Q292ZSAz.sav"}},
		{"{name}-{id}.sav", "Cove-7.sav", []string{"Cove-7.sav", "Cove 2-7.sav"}},
	} {
		n, err := ParseName(c.pattern)
		require.NoError(t, err, c.pattern)
		captures, ok := n.Match(c.from, false)
		require.True(t, ok, c.from)
		for i, want := range c.want {
			another, ok := n.Another(captures, n.Stem(captures), i+1)
			require.True(t, ok, want)
			got, ok := n.Spell(another)
			require.True(t, ok, want)
			assert.Equal(t, want, got, c.pattern)
			_, ok = n.Match(got, false)
			assert.True(t, ok, got)
		}
	}
	for _, pattern := range []string{"world.sav", "bay_{slot:letter}.sav", "{field:title}.sav"} {
		n, err := ParseName(pattern)
		require.NoError(t, err)
		_, ok := n.Another(map[string]string{"slot": "a"}, "x", 2)
		assert.False(t, ok, pattern)
	}
	n, err := ParseName("{id:letter}.sav")
	require.NoError(t, err)
	_, ok := n.Another(nil, "y", 9)
	assert.False(t, ok, "there are no more letters")
}
