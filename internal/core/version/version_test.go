package version

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestCompare(t *testing.T) {
	listed := Order{List: []string{"Autumn", "Winter", "Spring"}}
	for _, c := range []struct {
		order Order
		a, b  string
		want  Relation
	}{
		{Order{}, "1.6.2", "1.6.10", Older},
		{Order{}, "v2", "1.9", Newer},
		{Order{}, "1.6", "1.6.0", Same},
		{Order{}, "1.6.0-beta", "1.6.0", Older},
		{Order{}, "", "1", Unknown},
		{Order{}, "spring", "1", Unknown},
		{Order{}, "spring", "spring", Same},
		{listed, "Autumn", "Spring", Older},
		{listed, "Summer", "Spring", Newer},
		{listed, "Summer", "Monsoon", Unknown},
	} {
		assert.Equal(t, c.want, c.order.Compare(c.a, c.b), "%s %s", c.a, c.b)
	}
}

func TestRange(t *testing.T) {
	for _, c := range []struct {
		r, v string
		want bool
	}{
		{"< 2", "1.9.9", true}, {"< 2", "2", false}, {">= 1.4, < 2", "1.4", true}, {">= 1.4, < 2", "1.3", false},
		{"1.6.2", "1.6.2", true}, {"1.6.2", "1.6.3", false}, {"!= 1", "2", true}, {"*", "anything", true}, {"", "", true},
		{"< 2", "", false}, {"!= 1", "odd", false},
	} {
		r, err := ParseRange(c.r)
		require.NoError(t, err)
		assert.Equal(t, c.want, r.Holds(Order{}, c.v), "%s %s", c.r, c.v)
	}
	for _, bad := range []string{"<", "1,,2", "=> 2", "1 < 2"} {
		_, err := ParseRange(bad)
		assert.ErrorIs(t, err, ErrRange, bad)
	}
}

func FuzzRange(f *testing.F) {
	f.Add(">= 1.4, < 2", "1.5")
	f.Fuzz(func(t *testing.T, r, v string) {
		if parsed, err := ParseRange(r); err == nil {
			again, err := ParseRange(parsed.String())
			require.NoError(t, err)
			assert.Equal(t, parsed.Holds(Order{}, v), again.Holds(Order{}, v))
		}
	})
}
