package edit

import (
	"bytes"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestASearchFindsWhatIsThere holds the search against that of the library, in texts of few letters and for samples that mislead.
func TestASearchFindsWhatIsThere(t *testing.T) {
	random := rand.New(rand.NewPCG(1, 2))
	letters := func(most int) []byte {
		b := make([]byte, random.IntN(most))
		for i := range b {
			b[i] = "abcd"[random.IntN(1+random.IntN(4))]
		}
		return b
	}
	found := 0
	for range 20_000 {
		text, wanted := letters(400), letters(6)
		s := searchFor(string(wanted), letters(50))
		want := bytes.Index(text, wanted)
		require.Equal(t, want, s.index(text), "%q in %q", wanted, text)
		if want > 100 {
			found++
		}
	}
	require.Greater(t, found, 100)
}
