//go:build !windows

package game

func windowsKnown(*Known) error { return nil }
