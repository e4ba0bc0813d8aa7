//go:build !linux

package tree

func (f folder) look(name string) (Entry, error) { return Look(f.path, name) }
