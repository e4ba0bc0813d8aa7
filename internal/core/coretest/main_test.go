package coretest_test

import (
	"os"
	"testing"
)

// TestMain has the walks make their hundreds of worlds in memory, where the system has a folder for that.
func TestMain(m *testing.M) {
	if info, err := os.Stat("/dev/shm"); err == nil && info.IsDir() && os.Getenv("TMPDIR") == "" {
		_ = os.Setenv("TMPDIR", "/dev/shm") // else it takes longer
	}
	os.Exit(m.Run())
}
