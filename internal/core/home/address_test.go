package home

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestTags(t *testing.T) {
	for tag, good := range map[string]bool{"before-1.7": true, "1.7": true, "1.7.2": true, "evening": true, "7": false, "14b": false, "-x": false, "": false, "Ab": false, "a b": false, "../x": false, "a/b": false,
		strings.Repeat("a", 41): false} {
		assert.Equal(t, good, CheckTag(tag) == nil, "%q", tag)
	}
}

func TestSlugs(t *testing.T) {
	for title, want := range map[string]string{"Gannet Rock!": "gannet-rock", "  A  b ": "a-b", "Спасённый": "", "1.6.2": "1-6-2"} {
		assert.Equal(t, want, Slug(title))
	}
}
