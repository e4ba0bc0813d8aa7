// Package longtest tells the tests that take minutes, such as long walks and many kills, whether they are to run. They run where the
// environment variable OSTROV_LONG is set, as .ci/run does; else a short form of each runs, or none. It is for tests only.
package longtest

import (
	"os"
	"testing"
)

// Wanted reports whether long tests run.
func Wanted() bool { return os.Getenv("OSTROV_LONG") != "" }

// Only skips a test that has no short form.
func Only(t testing.TB) {
	t.Helper()
	if !Wanted() {
		t.Skip("takes long: set OSTROV_LONG=1")
	}
}

// Of is how often to do something: short times, or long times.
func Of(short, long int) int {
	if Wanted() {
		return long
	}
	return short
}
