package hazard

import (
	"encoding/base64"
	"io"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// slowly gives a text in pieces of random lengths.
type slowly struct {
	text string
	r    *rand.Rand
}

func (s *slowly) Read(p []byte) (int, error) {
	if s.text == "" {
		return 0, io.EOF
	}
	n := copy(p[:min(len(p), 1+s.r.IntN(40))], s.text)
	s.text = s.text[n:]
	return n, nil
}

// plainly finds what watch finds by looking at every byte, in a text without escapes and lines.
func plainly(text string) (found []string) {
	for from := 0; from < len(text); {
		to := from
		for to < len(text) && alphabet[text[to]] {
			to++
		}
		if to-from >= leastRun && (from == 0 || opens[text[from-1]]) && begins[text[from]] {
			if d := decoded([]byte(text[from:min(to, from+maxRun)])); mayRun(d) {
				found = append(found, string(d))
			}
		}
		from = to + 1
	}
	return found
}

// TestValuesAreFoundWhereverTheyStand strews values in Base64, words and signs over texts, and reads these in pieces.
func TestValuesAreFoundWhereverTheyStand(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	noise := func(n int) string {
		b := make([]byte, n)
		for i := range b {
			b[i] = byte(r.Uint32())
		}
		return string(b)
	}
	values := []func() string{
		func() string { return systemPickle + noise(r.IntN(30)) },
		func() string { return dotNetObject + noise(r.IntN(300)) },
		func() string { return javaObject },
		func() string { return "cposix\nsystem\n" + noise(20) },
		func() string { return pe() },
		func() string { return noise(r.IntN(60)) },
		func() string { return "\x80\x02" + noise(maxRun) },
	}
	signs := []string{`"`, " ", ",", ";", "<", ">", "=", ".", "#", "(", "é", `": "`}
	total := 0
	for range 400 {
		var b strings.Builder
		for range r.IntN(12) {
			b.WriteString(signs[r.IntN(len(signs))])
			switch r.IntN(4) {
			case 0:
				b.WriteString(strings.Repeat("word", r.IntN(10)))
			case 1:
				b.WriteString(base64.URLEncoding.EncodeToString([]byte(values[r.IntN(len(values))]())))
			default:
				b.WriteString(base64.RawStdEncoding.EncodeToString([]byte(values[r.IntN(len(values))]())))
			}
		}
		want := plainly(b.String())
		var got []string
		n, err := io.Copy(io.Discard, watched(&slowly{b.String(), r}, func(d []byte) { got = append(got, string(d)) }))
		require.NoError(t, err)
		assert.EqualValues(t, b.Len(), n)
		if !assert.Equal(t, want, got, "in %.2000q", b.String()) {
			return
		}
		total += len(want)
	}
	assert.Greater(t, total, 400, "there was something to be found")
}

// TestAWatchIsOfTexts gives what is no text: nothing is looked for behind its first zero.
func TestAWatchIsOfTexts(t *testing.T) {
	value := base64.StdEncoding.EncodeToString([]byte(systemPickle))
	for text, want := range map[string]int{`"` + value + `"`: 1, value: 1, "\x00 \"" + value + `"`: 0, `"` + value: 1, "": 0, `\`: 0, `"` + value[:leastRun-1]: 0} {
		found := 0
		_, err := io.Copy(io.Discard, watched(strings.NewReader(text), func([]byte) { found++ }))
		require.NoError(t, err)
		assert.Equal(t, want, found, "%q", text)
	}
}
