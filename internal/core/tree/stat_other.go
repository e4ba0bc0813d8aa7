//go:build !linux

package tree

func (f folder) stat(name string) (Entry, error) { return Stat(f.path, name) }
