// Package longtest tells the tests that take minutes, such as long walks and many kills, whether they are to run. They run where the
// environment variable OSTROV_LONG is set, as .ci/run does; else a short form of each runs, or none. Tests that stop a program at each of its
// steps take a share of them, another one each day, and all of them with OSTROV_LONG=all. It is for tests only.
package longtest

import (
	"os"
	"testing"
	"time"
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

// Share is which of many steps a test takes: the first one, counted from 1, and how many on the next one is. A short run takes one in short, a long
// one takes one in long and begins elsewhere each day, so that in as many days each step had its turn.
func Share(short, long int) (first, stride int) {
	switch os.Getenv("OSTROV_LONG") {
	case "":
		return 1, short
	case "all":
		return 1, 1
	}
	return 1 + time.Now().YearDay()%long, long
}
