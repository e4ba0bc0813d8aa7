//go:build !linux

package durable

// macOS has no such call, and that of Windows is for administrators.
const canSyncVolume = false

func syncVolume(string) error { return nil }
