package glob

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestValid(t *testing.T) {
	for _, pattern := range []string{"", "a", "*.sav", "**/x/*", "{a,b}/{c,d}", `\{a,b\}`, "{" + strings.Repeat("x,", 150) + "y}", strings.Repeat("**/", 30) + "x"} {
		assert.True(t, Valid(pattern), pattern)
	}
	for _, pattern := range []string{"[", "{a", strings.Repeat("{a,aa}", 8) + "b", strings.Repeat("a", maxLength+1), strings.Repeat("{{a,b},c}", 6)} {
		assert.False(t, Valid(pattern), pattern)
	}
}
